"""Keys of plans as earlier versions called them. What was written then stays readable."""

from typing import Any

_WERE_KINDS = {
    **{
        f"{was}-nb": ("naive-bayes", model)
        for was, model in (("multinomial", "counts"), ("bernoulli", "presence"), ("complement", "complement"))
    },
    "weighted-svm": ("ratio-svm", ""),
}
"""Kinds that were called otherwise: today's kind, and its event model."""


def renewed_plan(values: dict[str, Any]) -> tuple[dict[str, Any], list[str]]:
    """The same choices under the names of today, and what to tell of those that were called otherwise.

    `classifier.priors` and `classifier.label_weight` became values of `classifier.prior` and `classifier.label_weights`, the
    value `balanced` of the latter `even`. The event models of naive Bayes were kinds of their own. The step `stopwords` is
    `stop_words`.
    """
    values, notes = _with_steps(values)
    classifier = values.get("classifier")
    if not isinstance(classifier, dict):
        return values, notes
    settings = dict(classifier)
    if isinstance(was := settings.get("kind"), str) and was in _WERE_KINDS:
        settings["kind"], model = _WERE_KINDS[was]
        settings |= {"event_model": model} if model else {}
        notes.append(
            f"classifier.kind {was!r} is now {settings['kind']!r}{f' with event_model {model!r}' if model else ''}."
        )
    if settings.get("label_weights") == "balanced":
        settings["label_weights"] = "even"
        notes.append("classifier.label_weights 'balanced' is now 'even'.")
    if "priors" in settings:
        uniform = settings.pop("priors")
        settings["prior"] = settings.get("prior") or uniform
        notes.append("classifier.priors is now a value of classifier.prior.")
    if "label_weight" in settings:
        label_weight = settings.pop("label_weight")
        if label_weight:  # beside `balanced` both counted; a sorter trained so is scored the same by either
            settings["label_weights"] = label_weight
        notes.append("classifier.label_weight is now a value of classifier.label_weights.")
    for key in ("prior", "label_weights"):
        if settings.get(key) == {}:
            del settings[key]
    return {**values, "classifier": settings}, notes


def _with_steps(values: dict[str, Any]) -> tuple[dict[str, Any], list[str]]:
    clean = values.get("clean")
    steps = clean.get("steps") if isinstance(clean, dict) else None
    steps = [steps] if isinstance(steps, str) else steps
    if not isinstance(clean, dict) or not isinstance(steps, list | tuple) or "stopwords" not in steps:
        return values, []
    renamed = ["stop_words" if step == "stopwords" else step for step in steps]
    return {**values, "clean": {**clean, "steps": renamed}}, ["The step stopwords is now stop_words."]
