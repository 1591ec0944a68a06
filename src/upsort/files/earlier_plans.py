"""Keys of plans as earlier versions called them. What was written then stays readable."""

from typing import Any


def renewed(values: dict[str, Any]) -> tuple[dict[str, Any], list[str]]:
    """The same choices under the names of today, and what to tell of those that were called otherwise.

    `classifier.priors` and `classifier.label_weight` became values of `classifier.prior` and `classifier.label_weights`.
    """
    classifier = values.get("classifier")
    if not isinstance(classifier, dict):
        return values, []
    found, notes = dict(classifier), []
    if "priors" in found:
        uniform = found.pop("priors")
        found["prior"] = found.get("prior") or uniform
        notes.append("classifier.priors is now a value of classifier.prior.")
    if "label_weight" in found:
        one_by_one = found.pop("label_weight")
        if one_by_one:  # beside `balanced` both counted; a sorter trained so is scored the same by either
            found["label_weights"] = one_by_one
        notes.append("classifier.label_weight is now a value of classifier.label_weights.")
    for key in ("prior", "label_weights"):
        if found.get(key) == {}:
            del found[key]
    return {**values, "classifier": found}, notes
