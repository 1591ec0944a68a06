"""Scoring into parts: a file for each part of the tables, read, decided about and written by whoever takes it, whole or not at
all.

No row travels. A part that is done has a note next to it of what was added up; a run that ended is resumed by the parts that have
none, and the notes go when all is done."""

import json
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from uuid import uuid4

from upsort.core.errors import DataProblem, counted
from upsort.core.lazy import record
from upsort.io.notices import drain_notices, merge_notices
from upsort.io.outputs.atomic import cannot_write, check_writable, clear_dead, keep_unfinished, replacing_text
from upsort.io.outputs.registry import PartNames, registry
from upsort.io.outputs.table_file import check_same_run, table_file
from upsort.io.sources.stores import StagedRun, remove_objects, represented, store_of_folder
from upsort.io.tables.bounds import text_of_file
from upsort.io.tables.rows import ReasonKind, RejectedRow, RejectionReason, text_maker, write_made
from upsort.workflows.score import BlockScorer
from upsort.workflows.shared.context import CHARACTERS_AT_ONCE, Distribution, DocumentReading, ReadPiece, ScoringContext
from upsort.workflows.shared.scored_rows import ScoreResult, ScoreTally

_TOGETHER = 32  # parts of very many that are asked for as one


@record(frozen=True)
class ResumeChoice:
    """What becomes of parts that are there. key: what must be the same for resuming them."""

    key: dict[str, Any]
    resume: bool
    overwrite: bool


def score_parts(scoring: BlockScorer, incoming: ScoringContext, names: PartNames, again: ResumeChoice) -> ScoreResult:
    """Write every usable row to the file of its part.

    Raises DataProblem where there are parts that are not to be replaced, or not of this run."""
    reading = DocumentReading(inputs=incoming.inputs, reader=incoming.reader, characters=CHARACTERS_AT_ONCE)
    engine, sorters = incoming.engine, scoring.deciding.sorters
    try:
        names.folder.mkdir(exist_ok=True)
    except OSError as error:
        raise cannot_write(names.folder, error) from error
    check_writable(names.part(1))
    _prepare(names, again)
    store = store_of_folder(names.folder) if engine.elsewhere else ""
    staged = StagedRun(store, uuid4().hex) if store else None
    work = _PartWriter(reading=reading, scoring=scoring, names=names, key=again.key, staged=staged)
    tally, done = ScoreTally.of({}, sorters), 0
    try:
        for _, note in engine.in_order(work, enumerate(reading.pieces(Distribution(engine)), 1), _TOGETHER):
            done += 1
            engine.piece_done()
            part = ScoreTally.of(note["state"], sorters)
            tally.merge(part)
            merge_notices(note["remarks"])
            for row in note["refused"]:
                incoming.rejects.add(_refused(row))
            incoming.advance(part.documents)
        if staged is not None:
            staged.commit()
    except BaseException:
        if staged is not None:
            with suppress(DataProblem):  # what went wrong first is reported
                staged.discard()
        clear_dead(names.folder, names.before)  # of processes that were ended while they wrote
        present = len(names.there(notes=True))
        if present:
            keep_unfinished(f"{present:,} parts are done and kept in {names.folder.name}; resume with --resume.")
        raise
    for number, path in names.there().items():
        if number > done and again.overwrite:
            path.unlink()  # of an earlier run that had more
    for path in names.there(notes=True).values():
        path.unlink()
    if again.overwrite and names.folder in represented:
        remove_objects(represented[names.folder], lambda name: (names.number_in(name) or 0) > done)
    return tally.result(sorters)


def _prepare(names: PartNames, again: ResumeChoice) -> None:
    """Check that existing parts are of the same run, where it is resumed, and else may be replaced."""
    parts, notes = names.there(), names.there(notes=True)
    for path in (*parts.values(), *notes.values()):
        registry().check_not_read(path)
    theirs = {number: note for number, path in notes.items() if (note := _read(path)) is not None}
    if not again.overwrite:
        strange = [path for number, path in (*parts.items(), *notes.items()) if number not in theirs]
        if strange:
            raise DataProblem(
                f"The folder {names.folder.name} holds {counted(len(strange), 'file')} without a note of an interrupted run, "
                f"such as {strange[0].name}.",
                "They are kept. Choose another -o, or replace them with --overwrite.",
            )
        if parts and not again.resume:
            raise DataProblem(
                f"The folder {names.folder.name} holds {counted(len(parts), 'part')} of an interrupted run.",
                "Resume it: --resume. Or start over: --overwrite.",
            )
    for number, path in notes.items():
        if not again.resume or number not in theirs:
            path.unlink()
        else:
            check_same_run(theirs[number]["key"], again.key)
    registry().own((*parts.values(), *notes.values()))


@record(frozen=True, kw_only=True)
class _PartWriter:
    """Writes parts, in any process. reading: of stretches, where there are any. staged: where they are sent to by who writes
    them."""

    reading: DocumentReading | None
    scoring: BlockScorer
    names: PartNames
    key: dict[str, Any]
    staged: StagedRun | None

    def __call__(self, numbered: tuple[int, ReadPiece[Any]]) -> dict[str, Any]:
        if self.staged is None:
            return self._written(self.names, numbered)
        with TemporaryDirectory() as folder:
            names = replace(self.names, folder=Path(folder))
            content = self._written(names, numbered)
            self.staged.send(names.part(numbered[0]))
            return content

    def _written(self, names: PartNames, numbered: tuple[int, ReadPiece[Any]]) -> dict[str, Any]:
        """Write a part, and return its note without the key, which is as long as the list of inputs."""
        number, piece = numbered
        path, note = names.part(number), names.note(number)
        if path.exists() and (earlier := _read(note)) is not None:
            return {name: earlier[name] for name in earlier if name != "key"}
        before = drain_notices()
        if self.reading is not None:
            piece = self.reading.read(piece)
        tally = ScoreTally.of({}, self.scoring.deciding.sorters)
        with table_file(path, self.scoring.columns, self.scoring.numbers) as writer:
            self.scoring.text_of = text_maker(writer)
            for block in piece.blocks:
                scored = self.scoring(block)
                write_made(writer, scored.text, scored.columns)
                tally.add(scored)
        refused = [_noted(rejected) for rejected in piece.refused]
        content = {"state": tally.state(), "refused": refused, "remarks": drain_notices()}
        merge_notices(before)
        with replacing_text(note) as text:
            json.dump({"key": self.key, **content}, text)
        return content


def _read(note: Path) -> dict[str, Any] | None:
    try:
        content = json.loads(text_of_file(note))
    except (DataProblem, ValueError, RecursionError):
        return None
    return content if isinstance(content, dict) and {"key", "state", "refused", "remarks"} <= content.keys() else None


def _noted(rejected: RejectedRow) -> list[Any]:
    return [
        rejected.source,
        rejected.line,
        rejected.reason.why.name,
        rejected.reason.about,
        rejected.reason.detail,
        rejected.cells,
    ]


def _refused(noted: list[Any]) -> RejectedRow:
    source, line, why, about, detail, cells = noted
    return RejectedRow(source, line, RejectionReason(ReasonKind[why], tuple(about), detail), tuple(cells))
