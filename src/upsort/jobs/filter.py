"""Scoring as a filter: a line of JSON in, a line of JSON out, at once."""

import json
import sys
from collections.abc import Sequence
from typing import Any, BinaryIO, TextIO

from upsort.core.sorter import Sorter
from upsort.jobs.scored_rows import decision_columns, decision_rows


def answer_lines(sorters: Sequence[Sorter], given: BinaryIO | None, output: TextIO) -> int:
    """Answer every object with the same object and the decision added; flush after each.

    A line that is no object, or lacks the text, is answered by an object with `error` and the line. Returns how many were.
    """
    first = sorters[0]
    columns = first.plan.columns.text
    unreadable = 0
    stream = given if given is not None else sys.stdin.buffer
    for line in iter(stream.readline, b""):
        if not line.strip():
            continue
        found = _object_in(line)
        texts = [found.get(name) for name in columns] if found is not None else []
        if found is None or not any(isinstance(text, str) for text in texts):
            unreadable += 1
            needed = ", ".join(columns)
            answer: dict[str, Any] = {
                "error": f"no object with {needed}",
                "line": line.decode("utf-8", "replace").rstrip(),
            }
        else:
            text = "\n".join(text for text in texts if isinstance(text, str) and text)
            documents = first.texts_alone([text])
            words = first.tokens_of(documents)
            answer = dict(found)
            for sorter in sorters:
                cells = decision_rows(sorter, sorter.decide(documents, words))[0]
                names = decision_columns(sorter)
                answer |= {
                    name: (float(cell) if cell else None) if place in {1, 3, 4} else cell
                    for place, (name, cell) in enumerate(zip(names, cells, strict=True))
                }
        output.write(json.dumps(answer, ensure_ascii=False) + "\n")
        output.flush()
    return unreadable


def _object_in(line: bytes) -> dict[str, Any] | None:
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None
