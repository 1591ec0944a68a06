"""What the JSON of each command holds: the types from which docs/json.md is made, and against which every result can be
checked."""

from typing import Any

import msgspec

from upsort.cli.shapes import corpus, judging, using

SHAPES: dict[str, tuple[Any, ...]] = {
    "demo": (corpus.Demo,),
    "gather": (corpus.GatherJson,),
    "survey": (corpus.Survey, corpus.SurveyColumns, corpus.SurveyShow, corpus.SurveyFind),
    "plan": (corpus.PlanWritten, corpus.PlanChecked, corpus.PlanExplained),
    "clean": (corpus.CleanShown, corpus.CleanSteps, corpus.CleanWord, corpus.CleanGroups, corpus.CleanCompared),
    "features": (corpus.FeaturesJson, corpus.MadeVectorsJson),
    "split": (corpus.SplitJson,),
    "train": (judging.Train, judging.TrainSeveral),
    "evaluate": (judging.Evaluate, judging.EvaluateSeveral),
    "cross-validate": (judging.CrossValidate, judging.CrossValidateSeveral),
    "compare": (judging.Compare,),
    "choose": (judging.Choose,),
    "curve": (judging.CurveOf,),
    "suspects": (judging.SuspectsJson,),
    "ledger": (judging.Ledger,),
    "terms": (using.Terms,),
    "explain": (using.Explain,),
    "next": (using.Next,),
    "extend": (using.Extend,),
    "score": (using.Score,),
    "export": (using.Export,),
    "trend": (using.TrendJson,),
    "report": (using.Report,),
}
"""The shapes of each command, with those of options that show something else. `ask` answers in lines, `score` in rows: see the
docs."""


def schema_of(shape: Any) -> dict[str, Any]:
    """A shape as JSON Schema (draft 2020-12), with the shapes that it refers to under `$defs`."""
    (schema,), definitions = msgspec.json.schema_components((shape,), ref_template="#/$defs/{name}")
    if "$ref" in schema:
        schema = definitions.pop(schema["$ref"].rpartition("/")[2])
    return {**schema, "$defs": definitions}
