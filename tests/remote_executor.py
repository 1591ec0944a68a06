"""An executor that shares no memory with its caller."""

import pickle
from typing import Any


class RemoteExecutor:
    """Keeps everything as bytes, as others would that share no memory; what it is given cannot be changed."""

    def put(self, value: Any, /) -> Any:
        """A handle."""
        return Sent(pickle.dumps(value))

    def submit(self, work: Any, /, *given: Any) -> Any:
        """A handle of what the work makes of the given."""
        return Sent(pickle.dumps(work(*(one.value if isinstance(one, Sent) else one for one in given))))

    def gather(self, handles: Any, /) -> list[Any]:
        """The values."""
        return [one.value for one in handles]


class Sent:
    """A handle."""

    def __init__(self, content: bytes) -> None:
        self.content = content

    @property
    def value(self) -> Any:
        """What it stands for."""
        return pickle.loads(self.content)
