"""Cleaning steps: their examples, their properties on any text, and what the program shows of them."""

import csv
import unicodedata
from dataclasses import fields, replace
from itertools import pairwise
from pathlib import Path

import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner
from upsort.core.text.editing import Substitution, TextStep, edited
from upsort.core.text.step import Resources, StepPlace, shown, unmarked
from upsort.core.text.steps import STEPS
from upsort.core.text.word_lists import learned_rules, rules_on_held_out, table_lemmatiser
from upsort.io.plan.resources import resources_for
from upsort.workflows.clean import OnCorpus

ANY_TEXT = st.text(
    st.one_of(
        st.sampled_from("aAbIıİßΣσ1.,'’-_@#<>&;:)( \n😀é\u0301\ufe0f\u200d\x00\ud800\ue000\ue001"),
        st.characters(exclude_categories=[]),
    ),
    max_size=40,
)
ON_TEXT = tuple(name for name, step in STEPS.items() if step.place is not StepPlace.ON_WORDS)
IDEMPOTENT = ("nfc", "nfkc", "accents", "lower", "links", "emails", "letters", "punctuation", "spaces", "negations")
ALL_STEPS = ("nfc", "markup", "lower", "links", "emails", "names", "tags", "emoji", "contractions", "negations", "letters",
             "punctuation", "numbers", "stop_words", "stem", "lengths")  # fmt: skip


def words(steps: tuple[str, ...], text: str, **choices: object) -> list[str]:
    settings = Clean(steps=steps, **choices)  # type: ignore[arg-type]
    tokens = cleaner(settings, resources_for(settings)).tokens_of([text])
    return [tokens.words[code] for code in tokens.codes]


def text_step(name: str, settings: Clean) -> TextStep:
    on_text = STEPS[name].on_text
    assert on_text is not None
    return on_text(replace(settings, language="en") if settings.language == "auto" else settings, Resources())


@pytest.mark.parametrize("name", STEPS)
def test_the_documented_example_of_each_step(name: str) -> None:
    step = STEPS[name]
    before, after = step.example
    if step.place is StepPlace.ON_WORDS:
        assert words((name,), before, **step.example_with) == after.split()
    else:
        assert shown(text_step(name, Clean(**step.example_with)).apply(before)) == after


@pytest.mark.parametrize("name", STEPS)
def test_what_a_step_reads_is_there_to_be_read(name: str) -> None:
    step = STEPS[name]
    assert set(step.options) <= {one.name for one in fields(Clean)}
    assert set(step.resources) <= {one.name for one in fields(Resources)}
    assert {*step.before, *step.after} <= STEPS.keys()
    assert (step.on_words is not None) == (step.place is StepPlace.ON_WORDS) == (step.on_text is None)


@pytest.mark.parametrize("name", ON_TEXT)
@given(text=ANY_TEXT)
def test_no_step_fails_on_any_text_and_edits_say_what_it_did(name: str, text: str) -> None:
    step = text_step(name, Clean(numbers="shape", language="tr" if "İ" in text else "en"))
    after = step.apply(text)
    assert edited(text, step.edits(text)) == after
    assert step.apply_to_all([text, text]) == [after, after]
    if name in IDEMPOTENT:
        assert step.apply(after) == after


LIKELY = st.lists(
    st.sampled_from(
        [*"ants'’ 8:;=<3-)D(|0123,._é\u0301İſK한\u200d🌱🏽©\n", "cannot", "CaNNot", "aİn't", "let's", "www.a.b ", "...", "ooo"]
    )
).map("".join)


@pytest.mark.parametrize("name", ON_TEXT)
@given(text=LIKELY)
def test_the_quick_way_of_a_step_is_its_pattern(name: str, text: str) -> None:
    step = text_step(name, Clean())
    if isinstance(step, Substitution):
        assert step.apply(text) == edited(text, step.edits(text))


@given(LIKELY)
def test_letters_lose_their_accents_and_nothing_else(text: str) -> None:
    apart = unicodedata.normalize("NFD", text)
    bases = "".join(character for character in apart if unicodedata.category(character) != "Mn")
    assert text_step("accents", Clean()).apply(text) == unicodedata.normalize("NFC", bases)


def test_letters_that_only_resemble_those_of_a_contraction_stay() -> None:
    step = text_step("contractions", Clean())
    assert step.apply("aİn't let'ſ CAN'T couldn’t we're") == "aİn't let'ſ Can not could not we are"


@given(st.lists(ANY_TEXT, max_size=4))
def test_tokens_are_the_same_one_by_one_and_trace_back_to_the_original(texts: list[str]) -> None:
    cleaning = cleaner(Clean(steps=ALL_STEPS, numbers="marker"))
    tokens = cleaning.tokens_of(texts)
    for number, text in enumerate(texts):
        mine = [tokens.words[code] for code in tokens.codes[tokens.starts[number] : tokens.starts[number + 1]]]
        traced = cleaning.traced(text)
        assert [word for word, _, _ in traced] == mine
        assert all(0 <= start <= end <= len(text) for _, start, end in traced)
        assert all(earlier[1] <= later[1] for earlier, later in pairwise(traced))


@given(ANY_TEXT)
def test_leaving_punctuation_to_the_tokeniser_changes_no_token(text: str) -> None:
    text = unmarked(text)
    step = text_step("punctuation", Clean())
    cleaning = cleaner(Clean(steps=("punctuation",)))
    by_step = cleaning.cut([step.apply(text)])
    skipped = cleaning.tokens_of([text])
    assert [by_step.words[code] for code in by_step.codes] == [skipped.words[code] for code in skipped.codes]


@given(st.lists(ANY_TEXT, max_size=4), st.sampled_from(["en", "tr", "el"]))
def test_lower_casing_words_is_lower_casing_the_text(texts: list[str], language: str) -> None:
    step = text_step("lower", Clean(language=language))
    whole, words = cleaner(Clean(steps=())), cleaner(Clean(steps=("lower",), language=language))
    expected = whole.tokens_of([step.apply(unmarked(text)) for text in texts])
    found = words.tokens_of(texts)
    assert [found.words[code] for code in found.codes] == [expected.words[code] for code in expected.codes]
    assert len(set(found.words)) == len(found.words)
    assert found.starts.tolist() == expected.starts.tolist()


def test_tokens_trace_back_to_their_words() -> None:
    text = "Weren't the LEAVES curling? See https://a.example/x 😀"
    traced = cleaner(Clean(steps=("lower", "links", "emoji", "stop_words", "stem"))).traced(text)
    assert [(word, text[start:end]) for word, start, end in traced] == [
        ("weren't", "Weren't"),
        ("leav", "LEAVES"),
        ("curl", "curling"),
        ("{link}", "https://a.example/x"),
        ("{grinning-face}", "😀"),
    ]


def test_choices_of_steps() -> None:
    assert words(("numbers",), "in 2019 for £5 ring +44 1234 567 890, 20 times", numbers="shape") == [
        "in", "{year}", "for", "{price}", "ring", "{phone}", "{number}", "times",
    ]  # fmt: skip
    assert words(("links",), "see www.a.example now", links="drop") == ["see", "now"]
    assert words(("tags",), "so #dry", tags="marker") == ["so", "{tag}"]
    assert words(("replace",), "a_b colour color", replace=(("_", " "), ("/colou?r/", "hue"))) == ["a", "b", "hue", "hue"]
    assert words((), "a1 b2", tokens_by=r"[a-z]") == ["a", "b"]
    assert words(("stop_words",), "the fern is not dead", drop_negations=True, stop_words_add=("fern",)) == ["dead"]
    assert words(("stop_words",), "the fern", stop_words_keep=("the",)) == ["the", "fern"]
    assert words(("contractions",), "l'été d’or", language="fr") == ["l", "été", "d", "or"]
    assert words(("lower", "stem"), "auffälliges Auffallen", language="de") == ["auffall", "auffall"]
    assert words(("stem",), "leaves pruning", unchanged=("leaves",)) == ["leaves", "prune"]


def test_english_lemmas() -> None:
    forms = "leaves mice pruned pruning hopping hoping bigger better ran flies boxes tomatoes aphids has were dying ladies roses"
    lemmas = "leaf mouse prune prune hop hope big good run fly box tomato aphid have be die lady rose"
    assert words(("lemmas",), forms) == lemmas.split()
    assert words(("lemmas",), "leaves", lemma_part="verb") == ["leave"]


def test_lemmas_from_a_table_and_rules_learned_from_it(tmp_path: Path) -> None:
    stems = [f"{first}{last}" for first in ("garten", "blum", "strauch", "wurz", "zweig", "erd", "somm") for last in "abcdefgh"]
    table = {f"{stem}en": f"{stem}e" for stem in stems} | {f"{stem}es": stem for stem in stems}
    quality = rules_on_held_out(table)
    assert (quality.right, quality.of) == (12, 12)
    assert learned_rules(table).lemma("unbekannten") == "unbekannte"
    assert table_lemmatiser(table)("gartenaen") == "gartenae"
    (tmp_path / "t.tsv").write_text("# forms\nging\tgehen\nhäuser\thaus\n", encoding="utf-8")
    assert words(("lower", "lemmas"), "Ging Häuser", language="de", lemma_file=str(tmp_path / "t.tsv")) == ["gehen", "haus"]
    row = "{}\t{}\t{}\t{}\t_\t_\t0\troot\t_\t_\n"
    (tmp_path / "t.conllu").write_text(row.format(1, "saw", "see", "VERB") * 2 + row.format(2, "saw", "saw", "NOUN"))
    settings = Clean(steps=("lemmas",), language="xx", lemma_file=str(tmp_path / "t.conllu"))
    assert resources_for(settings).lemma_table == {"saw": "see"}


def test_the_order_of_the_steps_is_what_runs(program: Program) -> None:
    word = ("--word", "The", "--json")
    first = program("clean", *word, "--steps=lower,stop_words").json["words"]["The"]
    second = program("clean", *word, "--steps=stop_words,lower")
    assert [step["form"] for step in first] == ["The", "the", "(nothing)"]
    assert [step["form"] for step in second.json["words"]["The"]] == ["The", "the"]
    assert "stop words with capitals (The, It) are not recognised" in second.err
    assert "stop_words stands after stem" in program("clean", *word, "--steps=lower,stem,stop_words").err
    assert "no stemmer for the language 'fi'" in program("clean", *word, "--steps=stem", "--set=clean.language=fi").err


@pytest.mark.parametrize(
    ("choices", "says"),
    [
        (("--steps=lower,stemm",), "Nearest values: stem"),
        (("--steps=stem,links",), "Put links before stem"),
        (('--set=clean.replace=[["/a(b/", ""]]', "--steps=replace"), "a(b"),
        (("--set=clean.stemmer=finnish",), "clean.stemmer cannot be 'finnish'"),
        (("--most-changed-by=stem",), "is not one of the steps"),
    ],
)
def test_wrong_requests(program: Program, wet_and_dry: Path, choices: tuple[str, ...], says: str) -> None:
    assert says in program("clean", wet_and_dry, *choices, code=2).err


def test_a_pattern_without_end_sets_its_document_aside(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text(f"text,label\n{'a' * 60}!,x\nfern a,x\nfern b,x\nsand a,y\nsand b,y\n")
    plan = '[clean]\nsteps = ["replace"]\nreplace = [["/(a|aa)+$/", "-"]]\npattern_seconds = 0.2\n[features]\nin_at_least = 1\n'
    (tmp_path / "upsort.toml").write_text(plan)
    found = program("train", "t.csv", "--text=text", "--label=label", "-o", "a.sorter", "--json").json["rows"]
    assert found["reasons"] == {
        "the patterns of the plan took longer than 0.2 seconds on this machine, or made it far too long": 1
    }
    assert (found["used"], found["set_aside"]) == (4, 1)


BAYES = ("--set=classifier.kind=naive-bayes",)


def test_clean_shows_documents_groups_and_comparisons(program: Program, demo: Path, tmp_path: Path) -> None:
    letters = (demo / "letters-2024.csv", "--text=message", "--id=ref", "--steps=lower,stop_words,stem")
    found = program("clean", *letters, "--document=F24-0002", "--json").json
    (document,) = found["shown"]
    assert [step["step"] for step in document["steps"]] == ["lower", "tokens", "stop_words", "stem"]
    assert document["steps"][2]["removed"]
    tokens = [step["tokens"] for step in found["steps"]]
    assert tokens == sorted(tokens, reverse=True)
    assert found["steps"][-1]["distinct"] < found["steps"][0]["distinct"]
    assert "No document is called 'F24-9'" in program("clean", *letters, "--document=F24-9", code=1).err
    assert "kept; clean.drop_negations" in program("clean", *letters, "--most-changed-by=stem", "--show=1", "--full").out
    groups = program("clean", *letters, "--groups", "--word=leaves", "--json").json["groups"]
    assert groups[0]["words"].keys() >= {"leaves", "leave"}  # why stemming mixes sick leaves with taking leave
    table = program("clean", *letters[:2], "--label=topic", *BAYES, "--compare-steps", "lower", "lower,stem", "--json").json[
        "steps"
    ]
    assert table[0]["distinct"] > table[1]["distinct"]
    assert all(0.8 < one["accuracy"]["value"] < 0.95 for one in table)
    program("clean", *letters, "-o", "cleaned.csv")
    program("clean", *letters, "-o", "replaced.csv", "--in-place")
    with (tmp_path / "cleaned.csv").open(newline="") as one, (tmp_path / "replaced.csv").open(newline="") as two:
        for added, replaced in zip(csv.DictReader(one), csv.DictReader(two), strict=True):
            assert added["cleaned"] == replaced["message"]


def test_word_lists_travel_in_the_sorter_and_workers_change_nothing(program: Program, demo: Path, tmp_path: Path) -> None:
    (tmp_path / "stop.txt").write_text("the # an article\nand or\n")
    choices = (
        "--text=message",
        "--label=topic",
        "--set=clean.steps=lower,stop_words,stem",
        "--set=clean.stop_words_file=stop.txt",
    )
    for workers in ("1", "2"):
        program("train", demo / "letters-2024.csv", *choices, "--workers", workers, "-o", f"{workers}.sorter")
    assert (tmp_path / "1.sorter").read_bytes() == (tmp_path / "2.sorter").read_bytes()
    (tmp_path / "stop.txt").unlink()
    terms = program("terms", "1.sorter", "--top", "2000", "--only=soil", "--json").json["labels"]["soil"]
    assert not {"the", "and", "or"} & {term["term"] for term in terms}
    assert program("score", "1.sorter", demo / "letters-2026.csv", "-o", "s.csv", "--json").json["documents"] == 600


def test_stop_words_from_lists_are_compared_in_their_form_at_that_point() -> None:
    settings = Clean(steps=("accents", "lower", "stop_words"), language="fr")
    tokens = cleaner(settings, Resources()).tokens_of(["été déjà jardin"])
    assert [tokens.words[code] for code in tokens.codes] == ["jardin"]


def test_training_tells_the_corpus_own_stop_words_and_empty_documents(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("text,label\nthe fern,x\nthe fern,x\nthe sand,y\nthe sand,y\n123,y\n")
    found = program("train", "t.csv", "--text=text", "--label=label", "--set=clean.steps=numbers", "-o", "a.sorter", "--json")
    assert found.json["too_common"] == ["the"]
    assert found.json["without_tokens"] == 1
    assert "documents without a token after cleaning: 1;" in found.err


def test_how_good_learned_lemma_rules_are_is_told(program: Program, tmp_path: Path) -> None:
    rows = "".join(
        f"{stem}en\t{stem}e\n" for stem in ("blum", "stund", "schul", "nam", "lamp", "bien", "tann", "ros", "erl", "eich")
    )
    (tmp_path / "t.tsv").write_text(rows)
    choices = ("--steps=lemmas", "--set=clean.lemma_file=t.tsv", "--set=clean.language=de", "--word=lilien")
    found = program("clean", *choices)
    assert "right for 1 of the remaining 1." in found.err
    assert "lilie" in found.out


@pytest.mark.parametrize(
    "steps",
    ["lower,stem", "stop_words,stem,lower", "lower,lemmas,stem,lengths", "markup,links,lower,accents,stem", "stem,accents"],
)
@pytest.mark.parametrize("keep", ["", "ferns", "Ferns,leaves,the", "greenhouse no. 4,ün"])
def test_what_is_shown_is_what_is_written(program: Program, tmp_path: Path, steps: str, keep: str) -> None:
    (tmp_path / "t.csv").write_text(
        "text\nFerns ferns leaves Leaves and roses\nThe <b>ferns</b> of the leaves https://fernhollow.example\n"
        "Greenhouse no. 4: ünder the rosés\n"
    )
    choices = ("t.csv", "--text=text", f"--steps={steps}", f"--set=clean.keep={keep}", "--show=3", "-o", "o.csv", "--overwrite")
    found = program("clean", *choices, "--json").json
    with (tmp_path / "o.csv").open(encoding="utf-8", newline="") as stream:
        written = [row["cleaned"] for row in csv.DictReader(stream)]
    assert [document["steps"][-1]["after"] for document in found["shown"]] == written
    assert found["steps"][-1]["tokens"] == sum(len(text.split()) for text in written)
    assert found["steps"][-1]["distinct"] == len({word for text in written for word in text.split()})
    for document in found["shown"]:  # what each step removed or changed is not in the text after it, unless it was there twice
        removed = {word for step in document["steps"][-2:] for word in step["removed"]}
        assert not removed & set(keep.split(",")), removed


def test_the_table_of_steps_shows_what_each_step_does_alone() -> None:
    cleaning = cleaner(Clean(steps=("markup", "lower", "links", "stem")))
    corpus = OnCorpus(cleaning)
    for text in ("Ferns, <b>ferns</b> and FERNS", "Ferns https://fernhollow.example"):
        corpus.add([text])
    rows = corpus.steps()
    assert [(row.step, row.tokens, row.distinct) for row in rows] == [
        ("as it comes", 10, 8),
        ("markup", 8, 7),
        ("lower", 8, 5),
        ("links", 6, 3),
        ("stem", 6, 3),
    ]


NAMED = (
    "number interest forest honest modest earnest digest always perhaps sometimes mathematics docker installer meaning setting "
    "less saves=save cookies=cookie quizzes=quiz"
)


def lemma_pairs() -> dict[str, str]:
    """The words of the list and their lemmas."""
    lines = (Path(__file__).parent / "data" / "english-lemmas.txt").read_text(encoding="utf-8").splitlines()
    entries = [entry for line in lines if not line.startswith("#") for entry in line.split()]
    return {form: lemma or form for form, _, lemma in (entry.partition("=") for entry in entries)}


def test_lemmas_of_common_english_words() -> None:
    pairs = lemma_pairs()
    assert len(pairs) > 600
    step = dict(cleaner(Clean(steps=("lemmas",)), resources_for(Clean(steps=("lemmas",)))).on_words)["lemmas"]
    wrong = {form: step(form) for form, lemma in pairs.items() if step(form) != lemma}
    assert len(wrong) <= 0.01 * len(pairs), wrong
    named = {form: lemma or form for form, _, lemma in (entry.partition("=") for entry in NAMED.split())}
    assert {form: step(form) for form in named} == named


def test_a_part_of_speech_that_is_asked_for_decides() -> None:
    for part, pairs in {
        "verb": {"meaning": "mean", "setting": "set", "leaves": "leave", "rose": "rise", "saw": "see"},
        "noun": {"leaves": "leaf", "meanings": "meaning"},
        "adjective": {"number": "numb", "less": "little", "further": "far"},
    }.items():
        settings = Clean(steps=("lemmas",), lemma_part=part)  # type: ignore[arg-type]
        step = dict(cleaner(settings, resources_for(settings)).on_words)["lemmas"]
        assert {form: step(form) for form in pairs} == pairs


@pytest.mark.parametrize("way", ["replace_file", "replace", "chain"])
def test_a_list_of_words_makes_no_text_without_bounds(
    program: Program, tmp_path: Path, way: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("upsort.core.text.steps.patterns.MOST_CHARACTERS", 10_000_000)
    monkeypatch.setattr("upsort.core.text.cleaning.MOST_CHARACTERS", 10_000_000)
    rows = "moss pond,wet\nsand dune,dry\n" * 6
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}{'a ' * 30_000},wet\n")
    if way == "replace_file":
        (tmp_path / "words.txt").write_text(f"a\t{'long ' * 2_000}\nmoss\tmosses\n")
        plan = '[clean]\npattern_seconds = 0.5\nsteps = ["lower", "replace"]\nreplace_file = "words.txt"\n'
    elif way == "replace":
        plan = f'[clean]\npattern_seconds = 0.5\nsteps = ["lower", "replace"]\nreplace = [["a", "{"long " * 2_000}"]]\n'
    else:  # each makes ten of one
        pairs = ", ".join(f'["{letter}", "{" ".join(after * 10)}"]' for letter, after in pairwise("abcdefgh"))
        plan = f'[clean]\npattern_seconds = 0.5\nsteps = ["lower", "replace"]\nreplace = [{pairs}]\n'
    (tmp_path / "p.toml").write_text(plan)
    told = program("train", "t.csv", "--text=text", "--label=label", "--plan=p.toml", "--no-check", "-o", "s.sorter")
    assert "1 set aside (the patterns of the plan took longer" in told.err.replace("\n", " ")
    found = program("score", "s.sorter", "t.csv", "-o", "o.csv")
    assert "12 scored, 1 set aside" in found.err


@pytest.mark.parametrize(
    "text, kept",
    [
        ("release 1.0a and v2.3 of the list", ["1.0a", "v2.3"]),
        ("3.5kg of peat at 20°C", ["3.5kg", "20"]),
        ("covid-19 and a 3-year plan", ["covid-19", "3-year"]),
        ("it cost 10,000 in 2019-2021, on 12/03/2024 at 12:30, the 2nd time, -5, 100%, #42", []),
    ],
)
@pytest.mark.parametrize("mode", ["drop", "marker", "shape"])
def test_numbers_are_whole_tokens(text: str, kept: list[str], mode: str) -> None:
    cleaning = cleaner(Clean(steps=("lower", "numbers", "punctuation"), numbers=mode))
    tokens = cleaning.tokens_of([text])
    words = [tokens.words[code] for code in tokens.codes.tolist()]
    assert [word for word in words if any(character.isdigit() for character in word)] == kept


@given(st.lists(st.text(st.sampled_from("a1.-,'’ é°%€(#/:"), max_size=12), min_size=1, max_size=4), st.booleans())
def test_no_token_begins_or_ends_with_punctuation(texts: list[str], on_words: bool) -> None:
    steps = ("lower", "stem", "numbers") if on_words else ("lower", "numbers", "punctuation", "stem")
    cleaning = cleaner(Clean(steps=steps, numbers="drop"))
    for word in set(cleaning.tokens_of(texts).words):
        assert not word or (word[0].isalnum() and word[-1].isalnum()), word


def test_a_list_of_words_cuts_texts_without_spaces() -> None:
    cleaning = cleaner(Clean(language="zh", steps=("line_ends", "lower"), keep=("浇水", "绣球", "浇水太多", "C++")))
    tokens = cleaning.tokens_of(["绣球干了,浇\n水太多C++", "每天浇水"])
    assert [tokens.words[code] for code in tokens.codes.tolist()] == ["绣球", "干", "了", "浇水太多", "C++", "每", "天", "浇水"]
