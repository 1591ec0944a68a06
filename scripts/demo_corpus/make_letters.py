"""Makes the enquiry desk's letters from the phrase bank: two labelled years, and this year's without labels.

The faults of a real desk are planted on purpose, and a record of them is kept: rows without text or label, junk, letters
sent twice, letters sent again with small changes, copies filed under two benches, wrong benches, broken characters.
"""

import random
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from typing import Any

BENCHES = ("pests", "diseases", "pruning", "soil", "watering", "identification", "bookings")
CHANNELS = (("email", 46), ("web form", 27), ("phone", 14), ("card", 8), ("desk", 5))


@dataclass(kw_only=True)
class Letter:
    """One row of the desk's history. fault: what was planted in it, if anything."""

    ref: str
    received: date
    channel: str
    writer: str
    subject: str
    message: str
    topic: str
    urgent: bool
    photos: int
    fault: str = ""


@dataclass(frozen=True, kw_only=True)
class Year:
    """How a year's table is made."""

    year: int
    letters: int
    last_day: date
    faults: bool = True
    extra: dict[str, int] = field(default_factory=dict)


class LetterWriter:
    """Draws letters from the bank with one random generator."""

    def __init__(self, bank: dict[str, Any], generator: random.Random) -> None:
        self.bank = bank
        self.random = generator
        names = bank["names"]
        self.writers = [f"{first} {last}" for first in names["first"] for last in names["last"] if generator.random() < 0.3]
        self.habits = {name: self._habit() for name in self.writers}
        self.regulars = generator.sample(self.writers, 60)

    def _habit(self) -> dict[str, float]:
        draw = self.random.random
        return {
            "greeting": 0.35 + 0.6 * draw(),
            "closing": 0.3 + 0.6 * draw(),
            "chatty": 0.8 * draw(),
            "typos": 0.05 if draw() < 0.15 else 0.006,
            "lower": 1.0 if draw() < 0.07 else 0.0,
            "commas": 0.5 if draw() < 0.12 else 0.03,
            "excited": 0.5 if draw() < 0.1 else 0.0,
        }

    def letter(self, received: date, ref: str) -> Letter:
        """One letter that arrives on a day."""
        topic = self._topic(received.month)
        entry = self.bank[topic]
        channel = self.random.choices([name for name, _ in CHANNELS], [weight for _, weight in CHANNELS])[0]
        writer = self.random.choice(self.regulars if self.random.random() < 0.35 else self.writers)
        plant = self.random.choice(self.bank["fill"]["plant"])
        urgent = self.random.random() < entry["urgent"]
        message = self._message(topic, received.month, channel, writer, plant, urgent)
        photos = self.random.choices(range(len(entry["photos"])), entry["photos"])[0]
        if channel in {"phone", "card"}:
            photos = 0
        return Letter(
            ref=ref,
            received=received,
            channel=channel,
            writer=writer,
            subject=self._subject(topic, plant, channel),
            message=message,
            topic=topic,
            urgent=urgent,
            photos=photos,
        )

    def _topic(self, month: int) -> str:
        weights = [self.bank[topic]["weight"] * self.bank[topic]["months"][month - 1] for topic in BENCHES]
        return self.random.choices(BENCHES, weights)[0]

    def _subject(self, topic: str, plant: str, channel: str) -> str:
        draw = self.random.random()
        if channel == "phone" or draw < 0.12:
            return ""
        source = self.bank[topic]["subjects"] if draw < 0.42 else self.bank["subjects"]["any"]
        return self._filled(self.random.choice(source), plant)

    def _message(self, topic: str, month: int, channel: str, writer: str, plant: str, urgent: bool) -> str:
        draw, habit = self.random.random, self.habits[writer]
        parts = self._body(topic, month, plant)
        frame = self.bank["frame"]
        if draw() < habit["chatty"]:
            parts.insert(self.random.randrange(len(parts) + 1), self.random.choice(frame["digressions"]))
        if draw() < 0.5 * habit["chatty"]:
            parts.insert(self.random.randrange(len(parts) + 1), self.random.choice(frame["digressions"]))
        if urgent and draw() < 0.75:
            parts.append(self.random.choice(frame["urgent"]))
        elif not urgent and draw() < 0.12:
            parts.append(self.random.choice(frame["calm"]))
        sentences = [self._filled(part, plant) for part in parts]
        if channel in {"phone", "desk"}:
            return self._with_slips(" ".join([self.random.choice(frame["caller"]), *sentences]), writer, 0.6)
        body = self._joined(sentences, habit)
        lines = [body]
        if draw() < habit["greeting"]:
            lines.insert(0, self.random.choice(frame["greetings"]))
        if draw() < habit["closing"]:
            lines.append(self.random.choice(frame["closings"]))
            if draw() < 0.5:
                lines.append(writer if draw() < 0.5 else writer.split()[0])
        gap = "\n" if channel == "email" else " "
        return self._with_slips(gap.join(lines), writer, 1.0)

    def _body(self, topic: str, month: int, plant: str) -> list[str]:
        """Sentences of the letter's matter, before they are filled in."""
        draw, entry = self.random.random, self.bank[topic]
        says, asks = list(entry["says"]), entry["asks"]
        if draw() < 0.05:  # a letter that hardly says what it is about
            parts = self.random.sample(self.bank["frame"]["vague"], self.random.choice((1, 2, 2)))
            if topic in {"pests", "diseases", "watering", "soil"} and draw() < 0.7:
                parts.append(self.random.choice(self.bank["shared"]["symptoms"]))
            return parts
        parts = self.random.sample(says, self.random.choices((1, 2, 3, 4), (27, 42, 23, 8))[0])
        if entry["spring"] and month in {3, 4, 5} and draw() < 0.6:
            parts[0] = self.random.choice(entry["spring"])
        if topic in {"pests", "diseases"} and draw() < 0.3:  # told by its looks alone
            parts = self.random.sample(self.bank["shared"]["symptoms"], self.random.choice((1, 2)))
            parts.append(self.random.choice(says if draw() < 0.45 else self.bank["frame"]["vague"]))
        elif topic in {"watering", "soil"} and draw() < 0.3:
            parts.append(self.random.choice(self.bank["shared"]["symptoms"]))
        if draw() < 0.12:  # another matter comes in
            other = self.random.choice([bench for bench in BENCHES if bench != topic])
            parts.insert(self.random.randrange(len(parts) + 1), self.random.choice(self.bank[other]["says"]))
        if draw() < 0.07:
            other = self.random.choice([bench for bench in BENCHES if bench != topic])
            parts.append(self.random.choice(self.bank[other]["asks"]))
        if draw() < 0.62:
            parts.append(self.random.choice(asks))
        if draw() < 0.2:
            parts.insert(0, self.random.choice(self.bank["frame"]["vague"]))
        return parts

    def _filled(self, text: str, plant: str) -> str:
        fill = self.bank["fill"]
        singular, many = plant.split("|")
        pest_singular, pest_many = self.random.choice(fill["pest"]).split("|")
        values = {"plant": singular, "plants": many, "pest": pest_singular, "pests": pest_many}
        for slot in ("place", "since", "person", "tree", "disease", "day", "count", "colour", "product"):
            values[slot] = self.random.choice(fill[slot])
        filled = text.format(**values)
        return filled[0].upper() + filled[1:]

    def _joined(self, sentences: list[str], habit: dict[str, float]) -> str:
        joined = sentences[0]
        for sentence in sentences[1:]:
            if joined.endswith(".") and self.random.random() < habit["commas"]:
                small = sentence if sentence.startswith(("I ", "I'")) else sentence[0].lower() + sentence[1:]
                joined = f"{joined[:-1]}, {small}"
            else:
                joined = f"{joined} {sentence}"
        if habit["excited"] and self.random.random() < habit["excited"]:
            joined = joined.replace(".", "!", 1)
        return joined

    def _with_slips(self, text: str, writer: str, factor: float) -> str:
        habit = self.habits[writer]
        if habit["lower"]:
            text = text.lower()
        words = text.split(" ")
        for place, word in enumerate(words):
            if len(word) > 4 and word.isalpha() and self.random.random() < habit["typos"] * factor:
                words[place] = self._slip(word)
        return " ".join(words)

    def _slip(self, word: str) -> str:
        at = self.random.randrange(1, len(word) - 1)
        kind = self.random.randrange(3)
        if kind == 0:
            return word[:at] + word[at + 1] + word[at] + word[at + 2 :]
        return word[:at] + word[at + 1 :] if kind == 1 else word[:at] + word[at] + word[at:]


def letters_of(year: Year, bank: dict[str, Any], generator: random.Random) -> list[Letter]:
    """A year's letters in the order of their arrival, faults and all."""
    writer = LetterWriter(bank, generator)
    days = (year.last_day - date(year.year, 1, 1)).days + 1
    arrivals = sorted(date(year.year, 1, 1) + timedelta(days=generator.randrange(days)) for _ in range(year.letters))
    letters = [writer.letter(day, "") for day in arrivals]
    if year.faults:
        letters = _with_faults(letters, bank, writer, generator)
    letters.sort(key=lambda letter: letter.received)
    for number, letter in enumerate(letters, 1):
        letter.ref = f"F{year.year % 100}-{number:04d}"
    return letters


def _with_faults(letters: list[Letter], bank: dict[str, Any], writer: LetterWriter, generator: random.Random) -> list[Letter]:
    share = len(letters) / 1000
    places = iter(generator.sample(range(len(letters)), int(150 * share)))

    def some(per_thousand: float) -> list[Letter]:
        return [letters[next(places)] for _ in range(round(per_thousand * share))]

    for letter in some(20):
        letter.topic = generator.choice([bench for bench in BENCHES if bench != letter.topic])
        letter.fault = "wrong bench"
    for letter in some(10):
        letter.message, letter.fault = generator.choice(bank["junk"]["texts"]), "junk"
    for letter in some(5):
        letter.message, letter.fault = generator.choice(["", "", " ", "\n"]), "no text"
    for letter in some(4):
        letter.topic, letter.fault = "", "no label"
    for letter in some(3):
        letter.message, letter.fault = generator.choice(bank["junk"]["foreign"]), "foreign"
    for letter in some(4):
        letter.message = f"{letter.message} We paid £{generator.randrange(4, 30)} for it – it’s a café plant."
        letter.message = letter.message.encode("utf-8").decode("cp1252", "replace").replace("\ufffd", "?")
        letter.fault = "broken characters"
    added = [replace(letter, fault="sent twice", received=_later(letter, generator, 3)) for letter in some(12)]
    for letter in some(16):
        sentence = writer._filled(generator.choice(bank["frame"]["calm"] + ["Did you get my first letter?"]), "quince|quinces")
        again = replace(letter, message=f"{letter.message} {sentence}", fault="sent again, changed")
        again.received = _later(letter, generator, 20)
        added.append(again)
    for letter in some(4):
        other = generator.choice([bench for bench in BENCHES if bench != letter.topic])
        added.append(replace(letter, topic=other, fault="copy, other bench", received=_later(letter, generator, 5)))
    return letters + added


def _later(letter: Letter, generator: random.Random, days: int) -> date:
    return min(letter.received + timedelta(days=generator.randrange(days)), date(letter.received.year, 12, 31))
