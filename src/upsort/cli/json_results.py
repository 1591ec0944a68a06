"""What the JSON of each command holds: the types docs/json.md is made from and results are checked against."""

from typing import Any

import msgspec

from upsort.core.evaluation.measure_list import MEASURES
from upsort.workflows.browse import SurveyColumns, SurveyFind, SurveyShow
from upsort.workflows.choose import Choose
from upsort.workflows.clean import CleanCompared, CleanGroups, CleanShown, CleanSteps, CleanWord
from upsort.workflows.compare import ComparedPlans
from upsort.workflows.cross_validate import CrossValidated, CrossValidatedSeveral, CurveOf
from upsort.workflows.demo import Demo
from upsort.workflows.evaluate import Evaluated, EvaluatedSeveral
from upsort.workflows.explain import Explain
from upsort.workflows.export import ExportResult
from upsort.workflows.extend import ExtendResult
from upsort.workflows.features import FeaturesResult, MadeVectors
from upsort.workflows.gather import GatherResult
from upsort.workflows.next_documents import Next
from upsort.workflows.report import Report
from upsort.workflows.score import Score
from upsort.workflows.shared.results import Ledger, PlanChecked, PlanExplained, PlanWritten, Rated
from upsort.workflows.split import SplitResult
from upsort.workflows.survey import Survey
from upsort.workflows.suspects import SuspectsResult
from upsort.workflows.terms import Terms
from upsort.workflows.train import Train, TrainSeveral
from upsort.workflows.trend import TrendJson


def schema_of(shape: Any) -> dict[str, Any]:
    """A shape as JSON Schema (draft 2020-12), with the shapes that it refers to under `$defs`."""
    (schema,), definitions = msgspec.json.schema_components((shape,), ref_template="#/$defs/{name}")
    rates = {key: {"$ref": "#/$defs/Rate", "description": measure.summary} for key, measure in MEASURES.items()}
    for name, definition in definitions.items():
        if name in {rated.__name__ for rated in _subclasses(Rated)}:
            definition["properties"] = {**rates, **definition["properties"]}
    if "$ref" in schema:
        schema = definitions.pop(schema["$ref"].rpartition("/")[2])
    return {**schema, "$defs": definitions}


def _subclasses(cls: type[Rated]) -> list[type[Rated]]:
    return [each for direct in cls.__subclasses__() for each in (direct, *_subclasses(direct))]


SHAPES: dict[str, tuple[Any, ...]] = {
    "demo": (Demo,),
    "gather": (GatherResult,),
    "survey": (Survey, SurveyColumns, SurveyShow, SurveyFind),
    "plan": (PlanWritten, PlanChecked, PlanExplained),
    "clean": (CleanShown, CleanSteps, CleanWord, CleanGroups, CleanCompared),
    "features": (FeaturesResult, MadeVectors),
    "split": (SplitResult,),
    "train": (Train, TrainSeveral),
    "evaluate": (Evaluated, EvaluatedSeveral),
    "cross-validate": (CrossValidated, CrossValidatedSeveral),
    "compare": (ComparedPlans,),
    "choose": (Choose,),
    "curve": (CurveOf,),
    "suspects": (SuspectsResult,),
    "ledger": (Ledger,),
    "terms": (Terms,),
    "explain": (Explain,),
    "next": (Next,),
    "extend": (ExtendResult,),
    "score": (Score,),
    "export": (ExportResult,),
    "trend": (TrendJson,),
    "report": (Report,),
}
"""The shapes of each command, with those of options that show something else. `ask` answers in lines, `score` in rows: see the
docs."""
