"""Every sentence that a command prints about a result, with the condition under which it may be said.

A condition is a function of the same result as JSON and of the numbers in the sentence. The sentences about accuracy, intervals,
tests, comparisons, predictions and lists are here; how files were read and where results were written does not."""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

Json = Mapping[str, Any]


@dataclass(frozen=True)
class Sentence:
    """pattern: of the whole line; its groups are numbers or names. may: whether it may be said of a result."""

    name: str
    pattern: str
    may: Callable[[Json, re.Match[str]], bool]


def number(text: str) -> float:
    return float(text.replace(",", "").replace("+", ""))


def shown(text: str, value: float) -> bool:
    """Whether a percentage with one decimal shows a share."""
    return abs(number(text) - 100 * value) <= 0.051


def between(low: str, high: str, rate: Json) -> bool:
    return shown(low, rate["low"]) and shown(high, rate["high"])


def right_of(found: Json) -> tuple[float, float]:
    return found["accuracy"]["value"], found["baseline"]["value"]


def independent(found: Json) -> float:
    return float(found["groups"] if found.get("groups") is not None else found["accuracy"]["of"])


def wide(found: Json) -> bool:
    return bool(found["accuracy"]["high"] - found["accuracy"]["low"] > 0.2)


def dominated(found: Json) -> bool:
    sure_and_better = found["p_against_baseline"] < 0.05 and right_of(found)[0] > right_of(found)[1]
    return not sure_and_better and found["baseline"]["value"] >= 0.8 and found["roc_area"]["low"] > 0.5


def p_shown(text: str, p: float) -> bool:
    return p < 0.001 if text.startswith("<") else abs(number(text.removeprefix("= ")) - p) <= 0.00051


def similarity_of(found: Json) -> Json:
    """Of the result, or of the best candidate."""
    return dict(found["candidates"][0]["by_similarity"] if "candidates" in found else found["by_similarity"])


def candidate(found: Json, standing: str) -> list[Json]:
    return [one for one in found["candidates"] if one["standing"] == standing]


def expected(found: Json) -> Json:
    return dict(found["expected_wrong"])


def always(found: Json, line: re.Match[str]) -> bool:
    return True


NUMBER = r"(-?[\d,]+(?:\.\d+)?)"
P = r"\(exact paired test, p (< 0\.001|= [\d.]+)\)"
ENDS = rf"{NUMBER}–{NUMBER}%"  # of an interval
BASELINE = (
    r"Baseline, always (?:'(.+)' \(the most common label(?: in training)?\)|the most common label of each training part): "
    rf"{NUMBER}%"
)


def baseline(found: Json, line: re.Match[str]) -> bool:
    """Whether the label and its accuracy are those of the result; groups 1 and 2 of a line."""
    return "candidates" in found or (found["baseline"]["label"] == line[1] and shown(line[2], found["baseline"]["value"]))


SENTENCES = (
    Sentence(
        "accuracy",
        rf"{NUMBER} of {NUMBER} (documents|passages) right(?:, on average over (\d+) repeats)?: accuracy {NUMBER}% "
        rf"\(95% interval {ENDS}\)\.",
        lambda f, m: (
            number(m[1]) == round(f["accuracy"]["right"], 1)
            and number(m[2]) == f["accuracy"]["of"]
            and int(m[4] or 1) == f["repeats"]
            and shown(m[5], f["accuracy"]["value"])
            and between(m[6], m[7], f["accuracy"])
        ),
    ),
    Sentence(
        "groups",
        r"Counting (?:each group|similar documents|the passages of one document)(?: and similar documents)? once leaves "
        rf"{NUMBER}; the intervals rest on those.",
        lambda f, m: number(m[1]) == f["groups"] < f["accuracy"]["of"],
    ),
    Sentence(
        "passages",
        rf"They are passages of {NUMBER} documents, and the intervals rest on those\.",
        lambda f, m: number(m[1]) == f["groups"],
    ),
    Sentence("baseline", rf"{BASELINE}\.", baseline),
    Sentence(
        "better",
        rf"{BASELINE}; the accuracy is higher {P}\.",
        lambda f, m: (
            baseline(f, m)
            and right_of(f)[0] > right_of(f)[1]
            and p_shown(m[3], f["p_against_baseline"])
            and f["p_against_baseline"] < 0.05
        ),
    ),
    Sentence(
        "worse",
        rf"{BASELINE}; the accuracy is lower {P}\.",
        lambda f, m: (
            baseline(f, m)
            and right_of(f)[0] < right_of(f)[1]
            and p_shown(m[3], f["p_against_baseline"])
            and f["p_against_baseline"] < 0.05
        ),
    ),
    Sentence(
        "too few to tell it",
        rf"{BASELINE}; {NUMBER} (?:documents|document|groups|group) (?:is|are) too few to distinguish the accuracy from it {P}\.",
        lambda f, m: (
            baseline(f, m) and f["p_against_baseline"] >= 0.05 and independent(f) < 100 and number(m[3]) == independent(f)
        ),
    ),
    Sentence(
        "not told from it",
        rf"{BASELINE}; the accuracy is not distinguishable from it {P}\.",
        lambda f, m: baseline(f, m) and f["p_against_baseline"] >= 0.05 and independent(f) >= 100,
    ),
    Sentence(
        "own documents",
        rf"Accuracy on its training (?:documents|passages): {NUMBER}%\.",
        lambda f, m: shown(m[1], f["training_accuracy"]["value"]),
    ),
    Sentence(
        "wide",
        rf"{NUMBER} (?:documents|document|groups|group) (?:is|are) too few to say how good it is: the interval is wide\.",
        lambda f, m: wide(f) and number(m[1]) == independent(f),
    ),
    Sentence(
        "one label dominates",
        rf"One label is so common that accuracy says little about the others: the balanced accuracy is {NUMBER}% "
        rf"\({ENDS}; always giving one label gets {NUMBER}%\), the ROC area {NUMBER} \({NUMBER}–{NUMBER}\), so "
        "that it does separate them.",
        lambda f, m: (
            dominated(f)
            and shown(m[1], f["balanced_accuracy"]["value"])
            and shown(m[4], 1 / sum(1 for one in f["labels"].values() if one["documents"]))
        ),
    ),
    Sentence(
        "what to do then",
        r"To find more of the rare labels: train with --set classifier\.label_weights=even or --set decide\.f_beta=1, or "
        r"evaluate and score with prices: --cost TABLE\.",
        lambda f, m: dominated(f),
    ),
    Sentence(
        "spread of folds",
        rf"Standard deviation of the accuracy between folds: {NUMBER} points\.",
        lambda f, m: shown(m[1], f["spread"]) and any(fold["accuracy"]["of"] > 1 for fold in f["folds"]),
    ),
    Sentence(
        "undecided",
        rf"Undecided(?: \(below [\d.]+\))?: {NUMBER}\. Decided: {NUMBER}% \({ENDS}\), of which {NUMBER}% \({ENDS}\) are right\.",
        lambda f, m: (
            f["decided"]["of"] - f["decided"]["right"] == number(m[1])
            and shown(m[2], f["decided"]["value"])
            and between(m[3], m[4], f["decided"])
            and shown(m[5], f["decided_accuracy"]["value"])
            and between(m[6], m[7], f["decided_accuracy"])
        ),
    ),
    Sentence("of the decided", r"Decided documents only:", lambda f, m: f["undecided"] is not None),
    Sentence(
        "cost",
        rf"By the table of costs a document costs {NUMBER} \({NUMBER}–{NUMBER}\) on average; sorted as the most probable "
        rf"label it would cost {NUMBER} \({NUMBER}–{NUMBER}\), as '(.+)' always {NUMBER} \({NUMBER}–{NUMBER}\)\.",
        lambda f, m: (
            abs(number(m[1]) - f["costs"]["mean"]["value"]) <= 0.00051
            and abs(number(m[4]) - f["costs"]["of_most_probable"]["value"]) <= 0.00051
            and m[7] == f["costs"]["one_label"]
            and abs(number(m[8]) - f["costs"]["of_one_label"]["value"]) <= 0.00051
        ),
    ),
    Sentence(
        "known words",
        rf"Documents without words new to the sorter: {NUMBER}% \({NUMBER} of {NUMBER}\); with such words: {NUMBER}% "
        rf"\({NUMBER} of {NUMBER}\)\.",
        lambda f, m: number(m[3]) + number(m[6]) == f["accuracy"]["of"] and shown(m[1], f["all_words_known"]["value"]),
    ),
    Sentence(
        "confusion",
        rf"{NUMBER} of {NUMBER} '(.+)' documents (?:was|were) taken for '(.+)'\.",
        lambda f, m: m[3] != m[4] and abs((f["undecided"] or f)["confusion"][m[3]][m[4]] - number(m[1])) <= 0.051,
    ),
    Sentence(
        "measures",
        rf"Macro F1 of the {NUMBER} labels that occur: {NUMBER}% "
        rf"\((?:{ENDS}|no interval: a label has fewer than 10 documents)\)\.",
        lambda f, m: (
            number(m[1]) == sum(one["documents"] + one["sorted_as"] > 0 for one in f["labels"].values())
            and shown(m[2], f["macro_f1"]["value"])
            and (m[3] is None)
            == any(one["documents"] < 10 and one["documents"] + one["sorted_as"] for one in f["labels"].values())
        ),
    ),
    Sentence(
        "stated",
        rf"Of {NUMBER} documents predicted with {NUMBER}–{NUMBER}% probability, {NUMBER}% \({ENDS}\) were right\.",
        lambda f, m: any(
            shown(m[2], one["from"]) and shown(m[4], one["right"]["value"]) and between(m[5], m[6], one["right"])
            for one in f["reliability"]
            if one["right"]["of"] == max(other["right"]["of"] for other in f["reliability"])
        ),
    ),
    Sentence(
        "calibration error",
        rf"Calibration error: {NUMBER} points \({NUMBER} expected by chance\)\.",
        lambda f, m: shown(m[1], f["calibration_error"]) and shown(m[2], f["calibration_error_by_chance"]),
    ),
    Sentence(
        "before calibration",
        rf"Before calibration \((\w+)\): log loss {NUMBER}, Brier score {NUMBER}\.",
        lambda f, m: abs(number(m[2]) - f["before_calibration"]["log_loss"]) <= 0.00051,
    ),
    Sentence(
        "few of a label",
        r"Fewer than 10 documents: (.+); too few for an interval of their F1, of their areas, and of means over labels\.",
        lambda f, m: all(
            (one["f1"]["low"] is None) == (one["documents"] < 10) for one in f["labels"].values() if one["documents"]
        ),
    ),
    Sentence(
        "never given",
        r"No document is sorted as (.+): macro precision leaves them out, macro F1 takes them as 0\.",
        lambda f, m: any(one["sorted_as"] == 0 and one["documents"] for one in f["labels"].values()),
    ),
    Sentence(
        "measured on",
        rf"Log loss, Brier score and the two areas are measured on the {NUMBER} of {NUMBER} documents whose "
        rf"label the sorter knows\.",
        lambda f, m: number(m[1]) == f["log_loss"]["documents"] < f["accuracy"]["of"],
    ),
    Sentence(
        "copies apart",
        rf"Similar documents may be on both sides here \({NUMBER} resembles? another\)\. With them on one side: "
        rf"{NUMBER}% \({ENDS}\), which is true of new documents that resemble none of these\.",
        lambda f, m: number(m[1]) == f["copies"] and shown(m[2], f["copies_together"]["accuracy"]["value"]),
    ),
    Sentence(
        "copies together",
        rf"With similar documents on both sides of a split: {NUMBER}% \({ENDS}\)\. That is true of new documents that resemble "
        r"these as they resemble each other; else the first figure is\.",
        lambda f, m: shown(m[1], f["copies_apart"]["accuracy"]["value"]) and f["copies"] >= 0.01 * f["accuracy"]["of"],
    ),
    Sentence(
        "copied documents",
        rf"Of the {NUMBER} documents that resemble another, {NUMBER}% are right if it may be in the training part, {NUMBER}% if "
        r"not\.",
        lambda f, m: (
            shown(m[2], f["copied_documents"]["copies_apart"]["value"])
            and shown(m[3], f["copied_documents"]["copies_together"]["value"])
        ),
    ),
    Sentence(
        "near-duplicates of training documents",
        rf"Near-duplicates of training documents: {NUMBER} \({NUMBER}% right\); (?:without them: {NUMBER}% "
        rf"\({ENDS}\)|there are no others)\.",
        lambda f, m: number(m[1]) == f["by_similarity"]["near"]["of"] and shown(m[2], f["by_similarity"]["near"]["value"]),
    ),
    Sentence(
        "a leak",
        rf"the term '(.+)' alone predicts label '(.+)': F1 {NUMBER}% on held-out documents, {NUMBER}% without such terms\."
        r"(?: If that is not known of new documents, do not train on it\.)?",
        lambda f, m: any(
            (leak["names"], leak["label"]) == ([m[1]], m[2])
            and shown(m[3], leak["alone"])
            and shown(m[4], leak["rest"])
            and leak["alone"] >= 0.95
            and 1 - leak["rest"] >= 2 * (1 - leak["alone"])
            for leak in f["leaks"]
        ),
    ),
    Sentence(
        "nested, similar and new",
        rf"Nested cross-validation, similar to training documents: {NUMBER}% of {NUMBER} right; new: {NUMBER}% of {NUMBER}\.",
        lambda f, m: (
            f["nested_by_similarity"]["p"] < 0.05
            and shown(m[1], f["nested_by_similarity"]["not_new"]["value"])
            and shown(m[3], f["nested_by_similarity"]["new"]["value"])
        ),
    ),
    Sentence(
        "similar and new",
        rf"Similar to training documents: {NUMBER}% of {NUMBER} right; new: {NUMBER}% of {NUMBER}\.",
        lambda f, m: (
            similarity_of(f)["p"] < 0.05
            and number(m[2]) == similarity_of(f)["not_new"]["of"]
            and number(m[4]) == similarity_of(f)["new"]["of"]
            and shown(m[1], similarity_of(f)["not_new"]["value"])
            and shown(m[3], similarity_of(f)["new"]["value"])
        ),
    ),
    Sentence(
        "groups kept",
        r"Documents with the same '(.+)' stay on one side of every split \(([\d,]+) groups\)\.",
        lambda f, m: number(m[2]) == f["group_count"],
    ),
    Sentence(
        "copies kept",
        r"([\d,]+) documents? resembles? an earlier one; similar ones stay in the same fold \(the largest set has ([\d,]+)\)\.",
        lambda f, m: number(m[1]) == f["copies"] and number(m[2]) == f["largest_set"],
    ),
    Sentence(
        "trained on",
        rf"The figures are of sorters trained on {NUMBER} documents?; one trained on all may differ\.",
        lambda f, m: number(m[1]) == f["trained_on"],
    ),
    Sentence(
        "divided",
        rf"{NUMBER} documents? (?:is|are) in sets of similar ones that are divided: whole, a set would hold more than a tenth of "
        r"all documents, or all of a label\.",
        lambda f, m: number(m[1]) == f["divided"] > 0,
    ),
    Sentence(
        "taken out",
        r"Left out of training parts, counted over all splits: ([\d,]+) documents that belong together with a held-out one\.",
        lambda f, m: number(m[1]) == f["taken_out_of_training"],
    ),
    Sentence(
        "undated",
        r"([\d,]+) documents have no date; they are neither trained on nor judged\.",
        lambda f, m: number(m[1]) == f["without_date"],
    ),
    Sentence("what full adds", r"With --full: .+\.", always),
    Sentence("what to do next", r"Next, to .+:", always),
    Sentence("headings", r"(?:Most confident mistakes|Accuracy versus coverage):", always),
    Sentence(
        "same folds",
        r"All candidates were judged on the same ([\d,]+) documents and folds; the text was counted (.+)\.",
        lambda f, m: m[2] == {1: "once", 2: "twice"}.get(f["counted"], f"{f['counted']} times"),
    ),
    Sentence(
        "highest",
        rf"Highest accuracy: (.+), {NUMBER}% \(95% interval {ENDS}\); (?:the other|all others|{NUMBER} of the other {NUMBER}) "
        r"(?:(?:is|are) worse|(may be as good))\.",
        lambda f, m: (
            f["candidates"][0]["name"] == m[1]
            and shown(m[2], f["candidates"][0]["accuracy"]["value"])
            and between(m[3], m[4], f["candidates"][0]["accuracy"])
            and bool(m[7]) == any(one["standing"] != "worse" for one in f["candidates"][1:])
            and (
                m[5] is None
                or number(m[5]) == sum(1 for one in f["candidates"][1:] if one["standing"] != "worse") < number(m[6])
                or number(m[5]) == number(m[6])
            )
        ),
    ),
    Sentence(
        "difference to the best",
        r"Difference to the (?:best|most accurate): 95% interval of the difference in accuracy on the same (documents|groups "
        r"that belong together)(?:, each judged .+)?, adjusted for multiple comparisons of (\d+) candidates; if it includes 0, "
        r"the data do not show which is better\.",
        lambda f, m: int(m[2]) == len(f.get("candidates") or f["steps"]),
    ),
    Sentence(
        "end of the grid",
        r"The best (\S+), (\S+), is the (lowest|highest) that was tried: (?:lower|higher) ones may be better still\.",
        lambda f, m: any(one["key"] == m[1] and one["lowest"] == (m[3] == "lowest") for one in f["at_the_end"]),
    ),
    Sentence(
        "chosen here",
        r"The best figure is optimistic: it was used for the selection\. --nested estimates by how much\.",
        lambda f, m: f["nested"] is None,
    ),
    Sentence(
        "nested",
        rf"Nested cross-validation, choosing the best in each fold: {NUMBER}% \({ENDS}\), on documents "
        r"that had no part in the choice\.",
        lambda f, m: shown(m[1], f["nested"]["value"]),
    ),
    Sentence(
        "steps",
        rf"Highest cross-validated accuracy: (.+), {NUMBER}% \(95% interval {ENDS}\)\.",
        lambda f, m: (
            f["steps"][0]["accuracy"]["value"] == max(one["accuracy"]["value"] for one in f["steps"])
            and shown(m[2], f["steps"][0]["accuracy"]["value"])
            and between(m[3], m[4], f["steps"][0]["accuracy"])
        ),
    ),
    Sentence(
        "twice as many",
        rf"Accuracy with {NUMBER} training documents: {NUMBER}%; expected with {NUMBER}: {ENDS} \(95% prediction interval\)\.",
        lambda f, m: (
            number(m[1]) == f["points"][-1]["documents"]
            and shown(m[2], f["points"][-1]["held_out"])
            and between(m[4], m[5], f["twice_as_many"])
            and number(m[3]) == f["twice_as_many"]["documents"] == 2 * f["points"][-1]["documents"]
        ),
    ),
    Sentence(
        "no curve",
        rf"Accuracy with {NUMBER} training documents: {NUMBER}%; too few points to predict the effect of more\.",
        lambda f, m: f["growth"] is None and shown(m[2], f["points"][-1]["held_out"]),
    ),
    Sentence(
        "suspects",
        rf"{NUMBER} of {NUMBER} documents (?:has|have) a label that is more likely wrong than right \(judged by (.+)\)\.",
        lambda f, m: (
            number(m[1]) == len(f["suspects"])
            and number(m[2]) == f["judged"]
            and all(one["wrong"] >= 0.5 for one in f["suspects"])
        ),
    ),
    Sentence(
        "the most suspicious",
        rf"The {NUMBER} most suspicious of {NUMBER} documents \(judged by (.+)\)\.",
        lambda f, m: number(m[1]) == len(f["suspects"]) and number(m[2]) == f["judged"],
    ),
    Sentence(
        "expected wrong",
        rf"About {NUMBER} of these labels (?:is|are) expected to be wrong \(95% interval {NUMBER}–{NUMBER}\), assuming label "
        r"errors are random\.",
        lambda f, m: abs(number(m[1]) - expected(f)["value"]) <= 0.51,
    ),
    Sentence(
        "no suspect",
        r"None of ([\d,]+) documents has a label that is more likely wrong than right \(judged by (.+)\)\.",
        lambda f, m: not f["suspects"],
    ),
    Sentence(
        "not held out",
        r"([\d,]+) documents are held out by no split and were not examined\.",
        lambda f, m: number(m[1]) == f["rows"]["used"] - f["judged"],
    ),
    Sentence(
        "trained",
        rf"Trained (\S+) on ([\d,]+) (?:documents|passages), ([\d,]+) terms \((\S+)\) and (\d+) labels(?:; accuracy in a quick "
        rf"check: {NUMBER}% \(95% interval {ENDS}\))?\.",
        lambda f, m: (
            number(m[2]) == f["documents"]
            and int(m[5]) == len(f["labels"])
            and (m[6] is None) == (f["held_out_accuracy"] is None)
            and (m[6] is None or (shown(m[6], f["held_out_accuracy"]["value"]) and between(m[7], m[8], f["held_out_accuracy"])))
        ),
    ),
    Sentence("too common", r"Left out, in more than (\d+)% of the documents: .+\.", lambda f, m: bool(f["too_common"])),
    Sentence(
        "steps taken",
        r"Optimiser: (?:[\d,]+ passes over the documents, )?(\d+) steps; relative gradient (\S+) \(tolerance (\S+)\)\.",
        lambda f, m: int(m[1]) == f["iterations"] and (float(m[2]) <= float(m[3])) == f["reached"],
    ),
    Sentence(
        "calibrated",
        r"Calibration of probabilities: (\w+), on folds of these documents\.",
        lambda f, m: m[1] == f["calibration"] != "none",
    ),
    Sentence(
        "quick check",
        rf"Quick check: {NUMBER} of {NUMBER} (?:documents|passages)(?: of ([\d,]+) (?:documents|groups))? right, each judged by "
        r"a sorter of the same plan trained on the rest\.",
        lambda f, m: number(m[1]) == f["held_out_accuracy"]["right"] and number(m[2]) == f["held_out_accuracy"]["of"],
    ),
    Sentence(
        "no check",
        r"To estimate its accuracy: upsort evaluate, or upsort cross-validate\.",
        lambda f, m: f["held_out_accuracy"] is None,
    ),
    Sentence(
        "check keeps copies",
        r"([\d,]+) (?:(?:document|passage) resembles|(?:documents|passages) resemble) an earlier one; similar ones stay on the "
        r"same side\.",
        lambda f, m: number(m[1]) == f["copies"],
    ),
    Sentence(
        "explained",
        rf"(.+), probability {NUMBER}%; next: (.+), {NUMBER}%\.",
        lambda f, m: (
            shown(m[2], f["probabilities"][m[1]]) and shown(m[4], f["probabilities"][m[3]]) and f["second_label"] == m[3]
        ),
    ),
    Sentence("calibrated scores", r"Probabilities: the scores, calibrated \((\w+)\)\.", always),
    Sentence("rounding", r"Every number is rounded; the row rounding is the remainder\.", always),
    Sentence("new words", r"Never seen: (.+)\.", lambda f, m: m[1].split(", ")[0] == f["unknown_words"][0]),
    Sentence(
        "without a word",
        r"Without (.+) it would be (.+)\.",
        lambda f, m: f["flip"]["label"] == m[2] and ", ".join(map(repr, f["flip"]["without"])) == m[1],
    ),
    Sentence(
        "no change",
        r"Leaving out its words one after the other, up to 8, does not change its label\.",
        lambda f, m: f["flip"] is None,
    ),
    Sentence(
        "extended",
        r"Extended with ([\d,]+) documents to ([\d,]+)\. (The counts are those of training on all documents|Trained anew on all "
        r"documents|Trained anew on all documents, the earlier ones by their stored counts)\.",
        lambda f, m: (
            ("counts" if m[3].startswith("The counts") else "kept" if "stored" in m[3] else "everything") == f["way"]
            and number(m[2]) == f["documents"]
            and number(m[1]) == f["added"]
        ),
    ),
    Sentence(
        "terms of the extended",
        r"Terms: ([\d,]+) new, ([\d,]+) now outside the bounds\.",
        lambda f, m: number(m[1]) == f["new_terms"] and number(m[2]) == f["lost_terms"],
    ),
    Sentence("new labels", r"New labels: (.+)\.", lambda f, m: m[1] == ", ".join(f["new_labels"])),
    Sentence(
        "labels as of all",
        r"So are the labels; probabilities keep their calibration\. Train on all documents to calibrate them anew\.",
        lambda f, m: f["way"] == "counts",
    ),
    Sentence("all as of all", r"So are the labels and probabilities\.", lambda f, m: f["way"] == "counts"),
    Sentence("as of all", r"The result equals training on all of them\.", lambda f, m: f["way"] == "kept"),
    Sentence(
        "known before",
        rf"Accuracy on the new documents before: {NUMBER}% \({ENDS}\)(?:; {NUMBER}% of their words were new)?\.",
        lambda f, m: (
            shown(m[1], f["answers"][0]["new_right_before"]["value"])
            and between(m[2], m[3], f["answers"][0]["new_right_before"])
            and (m[4] is None or shown(m[4], f["answers"][0]["unknown_share"]))
        ),
    ),
    Sentence(
        "old and new by folds",
        rf"Accuracy on folds now: {NUMBER}% \({ENDS}\) on the new documents, {NUMBER}% \({ENDS}\) on the earlier ones\.",
        lambda f, m: (
            shown(m[1], f["answers"][0]["held_out_new"]["value"]) and shown(m[4], f["answers"][0]["held_out_older"]["value"])
        ),
    ),
)


def found_in(line: str) -> list[tuple[Sentence, re.Match[str]]]:
    """The sentences that a line is."""
    return [(one, match) for one in SENTENCES if (match := re.fullmatch(one.pattern, line))]
