"""Encodings told by the bytes of a small table."""

import io
import random

import pytest
from conftest import Program

from upsort.io.tables.encoding import find_encoding

LETTERS = {
    "ja": "すももの木に虫がつきました/庭の土が乾いています/りんごの葉が黄色い/配達が三日も遅れています/バラの苗を注文したい",
    "zh": "李子树上有蚜虫/花园的土很干/我订的苗木还没有到/苹果的叶子变黄了/送货晚了三天/连续下雨根都烂了",
    "ko": "자두나무에 진딧물이 있습니다/정원의 흙이 말랐어요/사과 잎이 노랗게 변했어요/장미 모종을 주문하고 싶습니다",
    "ru": "на сливе завелась тля/почва в саду сухая/листья яблони пожелтели/в счёте ошибка",
    "el": "η δαμασκηνιά έχει μελίγκρα/το χώμα είναι ξερό/τα φύλλα κιτρίνισαν/η παράδοση άργησε/θέλω τριαντάφυλλα",
    "fr": "le prunier a des pucerons cet été/la terre est très sèche/les feuilles ont jauni/la livraison a été retardée",
    "pl": "na śliwie są mszyce/liście jabłoni pożółkły/proszę zmienić adres/dostawa się spóźniła/w rachunku jest błąd",
    "tr": "erik ağacında yaprak biti var/bahçenin toprağı kuru/elma yaprakları sarardı/kökler çürüdü",
    "he": "על עץ השזיף יש כנימות/האדמה בגינה יבשה/העלים הצהיבו/אני רוצה ורדים/השורשים נרקבו",
}
WRITTEN = [
    *(("ja", name) for name in ("shift_jis", "euc_jp", "iso2022_jp", "utf_16_le", "utf_16_be")),
    *(("zh", name) for name in ("gb18030", "big5", "utf_16_le", "utf_16_be")),
    *(("ko", name) for name in ("euc_kr", "utf_16_le")),
    *(("ru", name) for name in ("cp1251", "koi8_r", "iso8859_5", "cp866", "utf_16_le")),
    *(("fr", name) for name in ("latin-1", "cp1252", "utf_16_le", "utf_32_be")),
    *(("pl", name) for name in ("cp1250", "iso8859_2", "utf_16_be")),
    ("el", "cp1253"), ("tr", "cp1254"), ("he", "cp1255"),
]  # fmt: skip


def table(language: str, rows: int = 100) -> str:
    chance = random.Random(rows)
    letters = LETTERS[language].split("/")
    lines = [f"r{row},{chance.choice(letters)} {chance.choice(letters)},topic {row % 2}" for row in range(rows)]
    return "\r\n".join(["ref,message,topic", *lines, ""])


@pytest.mark.parametrize(("language", "encoding"), WRITTEN)
def test_a_table_of_a_hundred_rows_is_read_as_it_was_written(language: str, encoding: str) -> None:
    content = table(language).encode(encoding, "ignore")  # big5 lacks some letters
    found = find_encoding(io.BytesIO(content))
    assert found.guessed and content.decode(found.name) == content.decode(encoding)
    assert all(letter in content.decode(encoding) for letter in found.letters)


def test_a_guess_that_does_not_look_right_later_is_doubted(program: Program) -> None:
    from pathlib import Path

    early = "message,topic\n" + "".join(f"café {row},topic {row % 2}\n" for row in range(9_000))
    late = "".join(f"śliwa żółta {row},topic {row % 2}\n" for row in range(60))
    Path("t.csv").write_bytes(early.encode("cp1252") + late.encode("iso8859_2"))
    told = program("survey", "t.csv", "--text=message", "--label=topic").err
    assert "read as cp1252" in told and "places do not look like text, such as" in told
    Path("t.csv").write_bytes(early.encode("cp1252"))
    assert "do not look like text" not in program("survey", "t.csv", "--text=message", "--label=topic").err


@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-le", "utf-16-be", "utf-32", "cp1252"])
@pytest.mark.parametrize("content", ['[{"message": "café"}, {"message": "pflücken"}]', '{"message": ["café", "pflücken"]}'])
def test_json_is_read_in_any_encoding(encoding: str, content: str, program: Program) -> None:
    from pathlib import Path

    Path("t.json").write_bytes(content.encode(encoding))
    program("gather", "t.json", "--text=message", "-o", "o.csv")
    assert Path("o.csv").read_text(encoding="utf-8").split()[1:] == ["café,t.json:1", "pflücken,t.json:2"]
