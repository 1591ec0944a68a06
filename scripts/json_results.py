"""The JSON of each command: the types docs/json.md is made from and results are checked against."""

from typing import Any

from upsort.workflows.browse import SurveyColumns, SurveyFind, SurveyShow
from upsort.workflows.clean import CleanResult, StepDescriptions, WordForms, WordGroups
from upsort.workflows.compare import ComparedPlans, StepsCompared
from upsort.workflows.cross_validate import CrossValidated, CrossValidatedSeveral, CurveOf
from upsort.workflows.demo import DemoResult, RunResult
from upsort.workflows.evaluate import Evaluated, EvaluatedSeveral
from upsort.workflows.explain import ExplainResult
from upsort.workflows.export import ExportResult, ExportSeveralResult
from upsort.workflows.extend import ExtendResult
from upsort.workflows.features import FeaturesResult, MadeVectors
from upsort.workflows.gather import GatherResult
from upsort.workflows.next_documents import NextResult
from upsort.workflows.report import ReportResult
from upsort.workflows.shared.results import Choose, Ledger, PlanChecked, PlanExplained, PlanWritten
from upsort.workflows.shared.scored_rows import ScoreResult
from upsort.workflows.split import SplitResult
from upsort.workflows.survey import SurveyResult
from upsort.workflows.suspects import SuspectsResult
from upsort.workflows.terms import TermsResult
from upsort.workflows.train import TrainResult, TrainSeveralResult
from upsort.workflows.trend import TrendResult

SHAPES: dict[str, tuple[Any, ...]] = {
    "demo": (DemoResult,),
    "run": (RunResult,),
    "gather": (GatherResult,),
    "survey": (SurveyResult, SurveyColumns, SurveyShow, SurveyFind),
    "plan": (PlanWritten, PlanChecked, PlanExplained),
    "clean": (CleanResult, StepDescriptions, WordForms, WordGroups, StepsCompared),
    "features": (FeaturesResult, MadeVectors),
    "split": (SplitResult,),
    "train": (TrainResult, TrainSeveralResult),
    "evaluate": (Evaluated, EvaluatedSeveral),
    "cross-validate": (CrossValidated, CrossValidatedSeveral),
    "compare": (ComparedPlans,),
    "choose": (Choose,),
    "curve": (CurveOf,),
    "suspects": (SuspectsResult,),
    "ledger": (Ledger,),
    "terms": (TermsResult,),
    "explain": (ExplainResult,),
    "next": (NextResult,),
    "extend": (ExtendResult,),
    "score": (ScoreResult,),
    "export": (ExportResult, ExportSeveralResult),
    "trend": (TrendResult,),
    "report": (ReportResult,),
}
"""The shapes of each command, with those of options that show something else. `ask` answers in lines, `score` in rows: see the
docs."""
