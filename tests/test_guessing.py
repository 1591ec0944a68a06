"""Which columns are text, label, identifier and date, in tables of the shapes that offices have."""

import random
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Program

WORDS = {
    "pests": ["aphid", "greenfly", "slug", "caterpillar", "mite", "weevil", "whitefly", "thrips"],
    "soil": ["loam", "clay", "compost", "mulch", "peat", "lime", "drainage", "sand"],
    "visits": ["ticket", "parking", "tour", "bench", "opening", "hours", "café", "entrance"],
}
FILLER = [
    "please",
    "could",
    "you",
    "tell",
    "me",
    "what",
    "we",
    "should",
    "do",
    "about",
    "the",
    "plant",
    "near",
    "our",
    "gate",
    "since",
    "last",
    "week",
    "thank",
    "you",
]


def message(kind: str, generator: random.Random, length: int = 14) -> str:
    return " ".join(generator.sample(WORDS[kind], 2) + generator.choices(FILLER, k=generator.randint(length // 2, length)))


def cells(kind: str, number: int, generator: random.Random) -> dict[str, Callable[[], str]]:
    """What a row may hold, by the kind of column."""
    return {
        "text": lambda: message(kind, generator),
        "german": lambda: f"{'die und der nicht' if number % 2 else 'the and of not'} {message(kind, generator)}",
        "tongue": lambda: "de" if number % 2 else "en",
        "title": lambda: " ".join(generator.choices(WORDS[kind], k=2)),
        "label": lambda: kind,
        "rare": lambda: kind if generator.random() < 0.06 else "",
        "sets": lambda: f"{kind},urgent" if generator.random() < 0.3 else kind,
        "id": lambda: f"FG-{10_000 + 7 * number}",
        "count": lambda: str(number + 1),
        "date": lambda: f"{generator.randint(1, 28):02}.{generator.randint(1, 12):02}.2025",
        "iso": lambda: f"2025-{1 + number % 12:02}-{generator.randint(1, 28):02}",
        "channel": lambda: generator.choice(["email", "letter", "phone"]),
        "author": lambda: generator.choice(["R. Vale", "O. Thorne", "M. Quill"]),
        "link": lambda: f"https://fernhollow.example/desk/messages/archive/{generator.randint(10**8, 10**9)}/view?part=whole",
        "money": lambda: f"{generator.randint(5, 900)}.{generator.randint(10, 99)}",
        "yes": lambda: generator.choice(["yes", "no"]),
        "footer": lambda: "This message is meant for the garden desk alone and must not be handed on to other people or gardens",
        "empty": lambda: "",
        "late": lambda: kind if number > 40 else "",
    }


def table(columns: str, rows: int = 80, seed: int = 1) -> str:
    """A semicolon-separated table. columns: NAME=KIND of each, separated by `|`."""
    generator = random.Random(seed)
    parsed = [column.split("=") for column in columns.split("|")]
    lines = [";".join(name for name, _ in parsed)]
    for number in range(rows):
        made = cells(generator.choice(list(WORDS)), number, generator)
        lines.append(";".join(made[what]() for _, what in parsed))
    return "\n".join(lines) + "\n"


TABLES = [
    ("Ticket-Nr.=id|Eingang=date|Nachricht=text|Kategorie=label", "Nachricht", "Kategorie", "Ticket-Nr.", "Eingang"),
    ("id=count|message=text|topic=label", "message", "topic", "id", ""),
    ("date=iso|channel=channel|message=text|topic=label|ref=id", "message", "topic", "ref", "date"),
    ("a=id|b=iso|c=text|d=label|e=channel", "c", "d", "a", "b"),
    ("Subject=title|Body=text|Queue=label|Agent=author", "Body", "Queue", "", ""),
    ("Label=rare|Bench=label|Text=text", "Text", "Bench", "", ""),
    ("link=link|description=text|class=label", "description", "class", "", ""),
    ("no=count|amount=money|letter=text|kind=label|sent=iso|answered=iso", "letter", "kind", "no", "sent"),
    ("message=text|footer=footer|topic=label", "message", "topic", "", ""),
    ("ticketNumber=id|ticketCategory=label|customerComment=text", "customerComment", "ticketCategory", "ticketNumber", ""),
    ("text=text|urgent=yes|open=yes|bench=label", "text", "bench", "", ""),
    ("text=text|labels=sets|author=author", "text", "labels", "", ""),
    ("vide=empty|numéro=count|texte=text|thème=label", "texte", "thème", "numéro", ""),
    ("x=author|y=text|z=label", "y", "z", "", ""),
    ("topic=late|channel=channel|message=text|key=id", "message", "topic", "key", ""),
    ("日付=iso|本文=text|分類=label|番号=count", "本文", "分類", "番号", "日付"),
    ("created=date|closed=date|note=text|department=label", "note", "department", "", "created"),
    ("title=title|topic=label|month=iso|uid=id", "title", "topic", "uid", "month"),
    ("price=money|message=text|reason=label|rating=yes", "message", "reason", "", ""),
    ("text=german|town=channel|tongue=tongue|topic=label", "text", "topic", "", ""),
    ("Vorgang=id|Abteilung=label|Anliegen=text|Datum=date|Kanal=channel", "Anliegen", "Abteilung", "Vorgang", "Datum"),
]


@pytest.mark.parametrize("columns, text, label, identifier, date", TABLES, ids=[entry[0] for entry in TABLES])
def test_columns_of_office_tables(
    program: Program, tmp_path: Path, columns: str, text: str, label: str, identifier: str, date: str
) -> None:
    (tmp_path / "t.csv").write_text(table(columns), encoding="utf-8")
    found = program("plan", "t.csv", "-o", "p.toml", "--json").json["plan"]["columns"]
    assert (found["text"], found["label"], found["id"], found["date"]) == ([text], label, identifier, date)


def test_what_a_sorter_gave_is_no_label_to_learn(program: Program, tmp_path: Path) -> None:
    lines = table("text=text|sorted_label=label|sorted_margin=money")
    (tmp_path / "scored.csv").write_text(lines, encoding="utf-8")
    assert "No column looks like a label." in program("train", "scored.csv", "-o", "a.sorter", code=2).err


def test_passages_keep_the_label_of_their_documents(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text(table("number=id|book=title|author=label|text=text", 30), encoding="utf-8")
    program("gather", "t.csv", "--text=text", "--label=author", "--id=number", "--passages=5", "-o", "p.csv")
    assert "label 'author' (--label)" in program("split", "p.csv", "--hold-out=0.2", "-o", "parts").err


def test_columns_are_guessed_from_the_whole_table(program: Program, tmp_path: Path) -> None:
    rows = table("state=channel|message=text|topic=label", rows=6000).splitlines()
    early = [row.rpartition(";")[0] + ";" for row in rows[1:4000]]  # labels are in the later rows alone
    (tmp_path / "t.csv").write_text("\n".join([rows[0], *early, *rows[4000:]]) + "\n")
    assert "label 'topic' (--label)" in program("split", "t.csv", "--hold-out=0.2", "-o", "parts").err
