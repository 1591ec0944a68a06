"""Makes the two keepers' logbooks from their phrase bank: four volumes each, a quarter of a year to a volume."""

import random
from datetime import date, timedelta
from typing import Any

MONTHS = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
]
VOLUMES = 4
WORDS_A_VOLUME = 3300


def logbook(bank: dict[str, Any], keeper: str, volume: int, generator: random.Random) -> str:
    """The text of one volume: a title, then dated entries until it is full."""
    voice = bank[keeper]
    day = date(1926 if keeper == "marrin" else 1927, 1 + 3 * (volume - 1), 1)
    lines = [f"FERNHOLLOW. Garden log, volume {volume}. Kept by {voice['name']}.", ""]
    words = 0
    while words < WORDS_A_VOLUME:
        sentences = [_sentence(bank, voice, generator) for _ in range(generator.choices((1, 2, 3, 4), (2, 4, 3, 1))[0])]
        entry = " ".join(sentences)
        if generator.random() < voice["tail_share"]:
            entry = f"{entry} {generator.choice(voice['tails'])}"
        lines += [f"{day.day} {MONTHS[day.month - 1]}.", entry, ""]
        words += len(entry.split())
        day += timedelta(days=generator.choice((1, 1, 1, 2, 3)))
    return "\n".join(lines)


def _sentence(bank: dict[str, Any], voice: dict[str, Any], generator: random.Random) -> str:
    shared = bank["shared"]
    values = {slot: generator.choice(shared[slot]) for slot in ("thing", "where", "plant", "helper", "time", "weather")}
    values["task"], values["task2"] = generator.sample(shared["task"], 2)
    more, fewer = sorted(generator.sample(range(len(shared["amount"])), 2), reverse=True)
    values["amount"], values["amount2"] = shared["amount"][more], shared["amount"][fewer]
    text = generator.choice(voice["opens"]).format(**values) + generator.choice(voice["says"]).format(**values)
    return _capitalised(text)


def _capitalised(text: str) -> str:
    """A capital at the start of every sentence."""
    begins = True
    out = []
    for character in text:
        if begins and character.isalpha():
            character, begins = character.upper(), False
        elif character in ".?!":
            begins = True
        out.append(character)
    return "".join(out)
