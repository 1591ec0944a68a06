"""Hands that share no memory with the one who asks."""

import pickle
from typing import Any


class Away:
    """Keeps everything as bytes, as others would that share no memory; what it is given cannot be changed."""

    def held(self, value: Any, /) -> Any:
        """A handle."""
        return Sent(pickle.dumps(value))

    def work(self, work: Any, /, *given: Any) -> Any:
        """A handle of what the work makes of the given."""
        return Sent(pickle.dumps(work(*(one.value if isinstance(one, Sent) else one for one in given))))

    def results(self, handles: Any, /) -> list[Any]:
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
