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


def candidate(found: Json, standing: str) -> list[Json]:
    return [one for one in found["candidates"] if one["standing"] == standing]


def expected(found: Json) -> Json:
    return dict(found["expected_wrong"])


def always(found: Json, line: re.Match[str]) -> bool:
    return True


NUMBER = r"(-?[\d,]+(?:\.\d+)?)"
P = r"\(exact paired test, p (< 0\.001|= [\d.]+)\)"
SENTENCES = (
    Sentence(
        "accuracy",
        rf"{NUMBER} of {NUMBER} (documents|passages) right(?:, on average over (\d+) repeats)?: accuracy {NUMBER}% "
        rf"\(95% interval {NUMBER} to {NUMBER}%\)\.",
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
        rf"Counting (?:each group|copies|the passages of one document)(?: and copies)? once leaves {NUMBER}; "
        rf"the intervals rest on "
        "those.",
        lambda f, m: number(m[1]) == f["groups"] < f["accuracy"]["of"],
    ),
    Sentence(
        "passages",
        rf"They are passages of {NUMBER} documents, and the intervals rest on those\.",
        lambda f, m: number(m[1]) == f["groups"],
    ),
    Sentence(
        "baseline",
        rf"Always answering '(.+)', the most common label(?: in training)?, would be right for {NUMBER}%\.",
        lambda f, m: "candidates" in f or (f["baseline"]["label"] == m[1] and shown(m[2], f["baseline"]["value"])),
    ),
    Sentence(
        "baseline of folds",
        rf"Always answering the most common label of each training part would be right for {NUMBER}%\.",
        lambda f, m: "candidates" in f or (f["baseline"]["label"] is None and shown(m[1], f["baseline"]["value"])),
    ),
    Sentence(
        "own documents",
        rf"On its own training documents it gets {NUMBER}%\.",
        lambda f, m: shown(m[1], f["training_accuracy"]["value"]),
    ),
    Sentence(
        "better",
        rf"It is better than always giving that label {P}\.",
        lambda f, m: (
            right_of(f)[0] > right_of(f)[1] and p_shown(m[1], f["p_against_baseline"]) and f["p_against_baseline"] < 0.05
        ),
    ),
    Sentence(
        "worse",
        rf"It is worse than always giving that label {P}\.",
        lambda f, m: (
            right_of(f)[0] < right_of(f)[1] and p_shown(m[1], f["p_against_baseline"]) and f["p_against_baseline"] < 0.05
        ),
    ),
    Sentence(
        "too few to tell it",
        rf"{NUMBER} (?:documents|document|groups|group) (?:is|are) too few to distinguish it from always giving that label {P}\.",
        lambda f, m: f["p_against_baseline"] >= 0.05 and independent(f) < 100 and number(m[1]) == independent(f),
    ),
    Sentence(
        "not told from it",
        rf"It is not distinguishable from always giving that label {P}\.",
        lambda f, m: f["p_against_baseline"] >= 0.05 and independent(f) >= 100,
    ),
    Sentence(
        "wide",
        rf"{NUMBER} (?:documents|document|groups|group) (?:is|are) too few to say how good it is: the interval is wide\.",
        lambda f, m: wide(f) and number(m[1]) == independent(f),
    ),
    Sentence(
        "one label dominates",
        rf"One label is so common that accuracy says little about the others: the balanced "
        rf"accuracy is {NUMBER}% "
        rf"\({NUMBER} to {NUMBER}%; always giving one label gets {NUMBER}%\), the ROC area {NUMBER} "
        rf"\({NUMBER} to {NUMBER}\), so "
        "that it does separate them.",
        lambda f, m: (
            dominated(f)
            and shown(m[1], f["balanced_accuracy"]["value"])
            and shown(m[4], 1 / sum(1 for one in f["labels"].values() if one["documents"]))
        ),
    ),
    Sentence(
        "what to do then",
        r"To find more of the rare labels: train with --set classifier\.label_weights=even or --set "
        r"decide\.f_beta=1, or "
        r"evaluate and score with prices: --cost TABLE\.",
        lambda f, m: dominated(f),
    ),
    Sentence(
        "spread of folds",
        rf"Between the folds the accuracy has a standard deviation of {NUMBER} points\.",
        lambda f, m: shown(m[1], f["spread"]) and any(fold["accuracy"]["of"] > 1 for fold in f["folds"]),
    ),
    Sentence(
        "undecided",
        rf"{NUMBER} are left undecided(?:, being below [\d.]+)?; {NUMBER}% \({NUMBER} to {NUMBER}%\) are decided, and "
        rf"{NUMBER}% \({NUMBER} to {NUMBER}%\) of those are right\.",
        lambda f, m: (
            f["decided"]["of"] - f["decided"]["right"] == number(m[1])
            and shown(m[2], f["decided"]["value"])
            and between(m[3], m[4], f["decided"])
            and shown(m[5], f["decided_accuracy"]["value"])
            and between(m[6], m[7], f["decided_accuracy"])
        ),
    ),
    Sentence("of the decided", r"Of the decided documents alone:", lambda f, m: f["undecided"] is not None),
    Sentence(
        "cost",
        rf"By the table of costs a document costs {NUMBER} \({NUMBER} to {NUMBER}\) on average; sorted as the most probable "
        rf"label it would cost {NUMBER} \({NUMBER} to {NUMBER}\), as '(.+)' always {NUMBER} \({NUMBER} to {NUMBER}\)\.",
        lambda f, m: (
            abs(number(m[1]) - f["costs"]["mean"]["value"]) <= 0.00051
            and abs(number(m[4]) - f["costs"]["of_most_probable"]["value"]) <= 0.00051
            and m[7] == f["costs"]["one_label"]
            and abs(number(m[8]) - f["costs"]["of_one_label"]["value"]) <= 0.00051
        ),
    ),
    Sentence(
        "without copies",
        rf"Without copies of training documents: {NUMBER}% \({NUMBER} of {NUMBER}\)\.",
        lambda f, m: shown(m[1], f["without_copies_of_training"]["value"]),
    ),
    Sentence(
        "known words",
        rf"Where all words are known: {NUMBER}% \({NUMBER} of {NUMBER}\); where some are not: {NUMBER}% "
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
        rf"Macro F1 {NUMBER}% \((?:{NUMBER} to {NUMBER}%|–)\)(?:; own label among the two most probable "
        rf"{NUMBER}% \({NUMBER} to "
        rf"{NUMBER}%\))?(?:; log loss {NUMBER} \({NUMBER} to {NUMBER}\))?\.",
        lambda f, m: (
            shown(m[1], f["macro_f1"]["value"])
            and (m[4] is not None) == (f.get("top2_accuracy") is not None)
            and (m[4] is None or len(f["labels"]) > 2)
        ),
    ),
    Sentence(
        "stated",
        rf"Of the {NUMBER} documents stated at {NUMBER} to {NUMBER}%, {NUMBER}% are right \({NUMBER} to {NUMBER}%\)\.",
        lambda f, m: any(
            shown(m[2], one["from"]) and shown(m[4], one["right"]["value"]) and between(m[5], m[6], one["right"])
            for one in f["reliability"]
            if one["right"]["of"] == max(other["right"]["of"] for other in f["reliability"])
        ),
    ),
    Sentence(
        "calibration error",
        rf"Calibration error: probabilities and shares right are {NUMBER} points apart on average; perfect "
        rf"probabilities would show "
        rf"about {NUMBER} on as many documents\.",
        lambda f, m: shown(m[1], f["calibration_error"]) and shown(m[2], f["calibration_error_by_chance"]),
    ),
    Sentence(
        "before calibration",
        rf"Before calibration \((\w+)\) the log loss would be {NUMBER} and the Brier score {NUMBER}\.",
        lambda f, m: abs(number(m[2]) - f["before_calibration"]["log_loss"]) <= 0.00051,
    ),
    Sentence(
        "few of a label",
        r"Fewer than 10 documents: (.+); too few for an interval of F1 or of areas of such a label\.",
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
        rf"Here copies may be on both sides \({NUMBER} documents? cop(?:y|ies) another one\)\. Kept on one side: "
        rf"{NUMBER}% \({NUMBER} to "
        rf"{NUMBER}%\)\.",
        lambda f, m: number(m[1]) == f["copies"] and shown(m[2], f["copies_together"]["accuracy"]["value"]),
    ),
    Sentence(
        "learned by heart",
        rf"Of the {NUMBER} documents that have a copy {NUMBER}% are right when it may be in the training part, "
        rf"{NUMBER}% when it may "
        r"not(: the difference is memorised)?\.",
        lambda f, m: (
            (f["copied_documents"]["copies_apart"]["value"] > f["copied_documents"]["copies_together"]["value"]) == bool(m[4])
        ),
    ),
    Sentence(
        "groups kept",
        r"Documents with the same '(.+)' are kept on one side of every split; there are ([\d,]+) groups\.",
        lambda f, m: number(m[2]) == f["group_count"],
    ),
    Sentence(
        "copies kept",
        r"([\d,]+) (?:document copies another one; it is|documents copy another one; they are) kept on one side "
        r"of every split\.",
        lambda f, m: number(m[1]) == f["copies"],
    ),
    Sentence(
        "taken out",
        r"To that end ([\d,]+) documents, counted over all splits, were taken out of training parts: they belong "
        r"together with a held-out one\.",
        lambda f, m: number(m[1]) == f["taken_out_of_training"],
    ),
    Sentence(
        "undated",
        r"([\d,]+) documents have no date; they are neither learned from nor judged\.",
        lambda f, m: number(m[1]) == f["without_date"],
    ),
    Sentence("more", r"More with --measures\.", always),
    Sentence(
        "headings",
        r"(?:True labels in rows, given labels in columns.*|Wrong, and most sure of it|What leaving the less certain ones "
        r"undecided brings):",
        always,
    ),
    Sentence(
        "same folds",
        r"All on the same ([\d,]+) documents and folds; the text was counted (.+)\.",
        lambda f, m: m[2] == {1: "once", 2: "twice"}.get(f["counted"], f"{f['counted']} times"),
    ),
    Sentence(
        "behind the best",
        r"Behind the (?:best|most accurate): 95% interval of the difference in accuracy on the same (documents|groups that "
        r"belong together)(?:, each "
        r"judged .+)?, wide enough to hold for all pairs of (\d+) candidates at once\. Where it holds 0, the "
        r"data do not show which is "
        r"better\.",
        lambda f, m: int(m[2]) == len(f.get("candidates") or f["steps"]),
    ),
    Sentence(
        "end of the grid",
        r"The best (\S+), (\S+), is the (lowest|highest) that was tried: (?:lower|higher) ones may be better still\.",
        lambda f, m: any(one["key"] == m[1] and one["lowest"] == (m[3] == "lowest") for one in f["at_the_end"]),
    ),
    Sentence(
        "chosen here",
        r"The best of (\d+) was chosen on these very documents, which biases its number upwards; --nested "
        r"measures by how much\.",
        lambda f, m: int(m[1]) == len(f["candidates"]) and f["nested"] is None,
    ),
    Sentence(
        "nested",
        rf"Choosing the best anew in each fold gets {NUMBER}% \({NUMBER} to {NUMBER}%\): expect that of the choice "
        r"on new documents\.",
        lambda f, m: shown(m[1], f["nested"]["value"]),
    ),
    Sentence(
        "steps",
        r"Best first, cross-validated on the same documents and folds\.",
        lambda f, m: f["steps"][0]["accuracy"]["value"] == max(one["accuracy"]["value"] for one in f["steps"]),
    ),
    Sentence(
        "twice as many",
        rf"Trained on twice as many, {NUMBER} documents of the same kind, it is expected to be right for "
        rf"{NUMBER} to {NUMBER}% \(95% "
        rf"prediction interval; now {NUMBER}%\)\.",
        lambda f, m: (
            between(m[2], m[3], f["twice_as_many"])
            and number(m[1]) == f["twice_as_many"]["documents"] == 2 * f["points"][-1]["documents"]
        ),
    ),
    Sentence(
        "no curve",
        r"There are too few points for a curve that says what more documents would give\.",
        lambda f, m: f["growth"] is None,
    ),
    Sentence(
        "gap",
        rf"On its training documents it gets {NUMBER}%: the gap of {NUMBER} points is what more documents, "
        r"(?:a larger classifier\.penalty |more classifier\.\w+ |less classifier\.depth )?or fewer terms can close\.",
        lambda f, m: f["points"][-1]["training"] - f["points"][-1]["held_out"] > 0.03,
    ),
    Sentence(
        "suspects",
        rf"{NUMBER} of {NUMBER} documents, judged by (.+), (?:has|have) a label that is more likely wrong than right\. "
        rf"About {NUMBER} of these "
        rf"labels (?:is|are) expected to be wrong \(95% interval {NUMBER} to {NUMBER}\), if wrong labels fall on "
        rf"documents by chance\. Read "
        "(?:it|them)\\.",
        lambda f, m: (
            number(m[1]) == len(f["suspects"])
            and all(one["wrong"] >= 0.5 for one in f["suspects"])
            and abs(number(m[4]) - expected(f)["value"]) <= 0.51
        ),
    ),
    Sentence(
        "the most suspicious",
        rf"The {NUMBER} most suspicious of {NUMBER} documents, judged by (.+)\. About {NUMBER} of these labels "
        rf"(?:is|are) expected to be wrong "
        rf"\(95% interval {NUMBER} to {NUMBER}\), if wrong labels fall on documents by chance\. Read (?:it|them)\.",
        lambda f, m: number(m[1]) == len(f["suspects"]) and abs(number(m[4]) - expected(f)["value"]) <= 0.51,
    ),
    Sentence(
        "no suspect",
        r"None of ([\d,]+) documents, judged by (.+), has a label that is more likely wrong than right\.",
        lambda f, m: not f["suspects"],
    ),
    Sentence(
        "not held out",
        r"([\d,]+) documents are held out by no split, so that nothing is said of them\.",
        lambda f, m: number(m[1]) == f["rows"]["used"] - f["judged"],
    ),
    Sentence(
        "trained",
        r"Trained (\S+) on ([\d,]+) (?:documents|passages), ([\d,]+) terms \((\S+)\) and (\d+) labels\.",
        lambda f, m: number(m[2]) == f["documents"] and int(m[5]) == len(f["labels"]),
    ),
    Sentence("too common", r"Left out, being in more than (\d+) % of the documents: .+\.", lambda f, m: bool(f["too_common"])),
    Sentence(
        "steps taken",
        r"The optimiser took (\d+) steps; the gradient is (\S+) of what it was at zero weights \(asked for: (\S+)\)\.",
        lambda f, m: int(m[1]) == f["iterations"] and (float(m[2]) <= float(m[3])) == f["reached"],
    ),
    Sentence(
        "calibrated",
        r"Probabilities are calibrated \((\w+)\) on folds of these documents\.",
        lambda f, m: m[1] == f["calibration"] != "none",
    ),
    Sentence(
        "quick check",
        rf"It gets {NUMBER}% of its own training (?:documents|passages) right, and {NUMBER}% \({NUMBER} to "
        rf"{NUMBER}%\) of {NUMBER} "
        r"(?:documents|passages)(?: of ([\d,]+) (?:documents|groups))? held out in a quick check \(by sorters "
        r"of the same plan, trained on the rest\)\.",
        lambda f, m: (
            shown(m[1], f["training_accuracy"]["value"])
            and shown(m[2], f["held_out_accuracy"]["value"])
            and number(m[5]) == f["held_out_accuracy"]["of"]
        ),
    ),
    Sentence(
        "no check",
        rf"It gets {NUMBER}% of its own training documents right; that says little about new ones\.",
        lambda f, m: f["held_out_accuracy"] is None,
    ),
    Sentence(
        "check keeps copies",
        r"([\d,]+) (?:(?:document|passage) copies another one; it is|(?:documents|passages) copy another one; "
        r"they are) kept on one side "
        r"in it\.",
        lambda f, m: number(m[1]) == f["copies"],
    ),
    Sentence(
        "explained",
        rf"(.+), with probability {NUMBER}; next (.+), {NUMBER}\.",
        lambda f, m: (
            abs(f["probabilities"][m[1]] - number(m[2])) <= 0.00051
            and abs(f["probabilities"][m[3]] - number(m[4])) <= 0.00051
            and f["second_label"] == m[3]
        ),
    ),
    Sentence("calibrated scores", r"Probabilities are those of the scores, calibrated \((\w+)\)\.", always),
    Sentence("rounding", r"Every number is rounded by itself; the line rounding is what that leaves over\.", always),
    Sentence(
        "unknown words",
        r"Not among its terms, being new to it or outside the bounds: (.+)\.",
        lambda f, m: m[1].split(", ")[0] == f["unknown_words"][0],
    ),
    Sentence(
        "without a word",
        r"Without (.+) it would be (.+)\.",
        lambda f, m: f["flip"]["label"] == m[2] and ", ".join(f["flip"]["without"]) == m[1],
    ),
    Sentence(
        "no change",
        r"Taking out its words one after the other, up to 8, does not make it another label\.",
        lambda f, m: f["flip"] is None,
    ),
    Sentence(
        "extended",
        r"(Its counts are those of training on all documents|Trained anew on all documents|Trained anew on all documents, the "
        r"earlier ones by their stored counts, which are enough): ([\d,]+) documents now, ([\d,]+) more than before\.",
        lambda f, m: (
            ("counts" if m[1].startswith("Its") else "kept" if "stored" in m[1] else "everything") == f["way"]
            and number(m[2]) == f["documents"]
            and number(m[3]) == f["added"]
        ),
    ),
    Sentence(
        "terms of the extended",
        r"Terms: ([\d,]+) new ones within the bounds, ([\d,]+) no longer within them\.",
        lambda f, m: number(m[1]) == f["new_terms"] and number(m[2]) == f["lost_terms"],
    ),
    Sentence("new labels", r"New labels: (.+)\.", lambda f, m: m[1] == ", ".join(f["new_labels"])),
    Sentence(
        "labels as of all",
        r"So are its labels; its probabilities are calibrated as before\. Train on everything to calibrate them anew\.",
        lambda f, m: f["way"] == "counts",
    ),
    Sentence("all as of all", r"So are its labels and probabilities\.", lambda f, m: f["way"] == "counts"),
    Sentence("as of all", r"It is what training on all of them gives\.", lambda f, m: f["way"] == "kept"),
    Sentence(
        "known before",
        rf"Of the new documents it got {NUMBER}% \({NUMBER} to {NUMBER}%\) right before(?:; {NUMBER}% of their words were "
        r"unknown to it)?\.",
        lambda f, m: (
            shown(m[1], f["answers"][0]["new_right_before"]["value"])
            and between(m[2], m[3], f["answers"][0]["new_right_before"])
            and (m[4] is None or shown(m[4], f["answers"][0]["unknown_share"]))
        ),
    ),
    Sentence(
        "old and new by folds",
        rf"By folds it now gets {NUMBER}% \({NUMBER} to {NUMBER}%\) of the new ones right, and {NUMBER}% \({NUMBER} to "
        rf"{NUMBER}%\) of the older ones\.",
        lambda f, m: (
            shown(m[1], f["answers"][0]["held_out_new"]["value"]) and shown(m[4], f["answers"][0]["held_out_older"]["value"])
        ),
    ),
)


def found_in(line: str) -> list[tuple[Sentence, re.Match[str]]]:
    """The sentences that a line is."""
    return [(one, match) for one in SENTENCES if (match := re.fullmatch(one.pattern, line))]
