"""What public functions return, for type annotations.

None of these is made by hand, but for rules: each comes from the function next to its name.

Examples
--------
>>> from dotledger.typing import Forecast
>>> def too_dear(forecast: Forecast) -> bool:
...     return forecast.money > 20
"""

from __future__ import annotations

from dotledger.acting.derived_files import DerivedFiles
from dotledger.acting.face_covering import Covered
from dotledger.acting.image_repair import RepairedImage
from dotledger.api.forgetting import Forgotten
from dotledger.api.rereading import Reread
from dotledger.core.comparison.differences import Difference
from dotledger.core.comparison.drift import Change, Drift
from dotledger.core.comparison.found_by import FoundBy
from dotledger.core.comparison.interrater_agreement import Agreement, KindAgreement
from dotledger.core.comparison.planned_looks import Look, LookFigure, Watch, WatchedRound
from dotledger.core.comparison.published_claims import Checked
from dotledger.core.comparison.release_gates import Verdicts
from dotledger.core.comparison.run_comparison import Comparison, Pair
from dotledger.core.copies.image_fingerprints import NearCopy, Prints
from dotledger.core.decisions.rule_conditions import Condition, Rule, Rules
from dotledger.core.decisions.text_masking import Masked
from dotledger.core.decisions.verdicts import Decisions, Verdict, VerdictCounts
from dotledger.core.measurement.measure_result import LabelRows, MeasuredKinds
from dotledger.core.measures.measure_rows import KindMeasure, Point, Row
from dotledger.core.pairing.pairing_rows import Paired
from dotledger.core.questions.attribute_judging import DetailMeasure
from dotledger.core.questions.box_conventions import Fit
from dotledger.core.questions.confusion import Confusion
from dotledger.core.questions.count_agreement import CountAgreement
from dotledger.core.questions.error_diagnosis import Diagnosis
from dotledger.core.questions.identification import Identification, IdentificationRow
from dotledger.core.questions.pair_verification import PairMeasure, PairRow
from dotledger.core.questions.reliability import Reliability
from dotledger.core.questions.screening_decisions import ScreeningCounts
from dotledger.core.questions.slices import SliceMeasure
from dotledger.core.questions.text_lines import TextMeasure
from dotledger.core.questions.threshold_sweep import Sweep
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.image_name_matching import NamesMatched
from dotledger.core.tables.reviewed_annotations import Reviewed
from dotledger.core.thresholds.aims import Aim
from dotledger.core.thresholds.similarity_choice import SimilarityChoice
from dotledger.core.thresholds.three_way_choice import ThreeWays, WaysCounts
from dotledger.core.thresholds.threshold_choice import Choice, GroupChoice
from dotledger.core.thresholds.threshold_outcomes import Outcome
from dotledger.formats.annotations.annotation_collecting import Loaded, Written
from dotledger.formats.thresholds_files import ThresholdsFile
from dotledger.images.image_gathering import Gathered
from dotledger.ledger.batch_queries import Batch, Batches
from dotledger.ledger.data_removal import Removal
from dotledger.ledger.name_search import Remainder
from dotledger.ledger.usage_queries import Month, Months
from dotledger.report.pictures.box_drawing import Drawn
from dotledger.sending.batch.send_progress import SentBatch
from dotledger.sending.cost_forecast import Forecast
from dotledger.sending.event_posting import Posted
from dotledger.sending.single_image_service import OpenService, Seen
from dotledger.sending.trial_call import Trial
from dotledger.services.drafting.draft_writing import Draft
from dotledger.services.service_description import Description

__all__ = [
    "Agreement",
    "Aim",
    "Batch",
    "Batches",
    "Change",
    "Checked",
    "Choice",
    "Comparison",
    "Condition",
    "Confusion",
    "CountAgreement",
    "Covered",
    "Decisions",
    "DerivedFiles",
    "Description",
    "DetailMeasure",
    "Details",
    "Diagnosis",
    "Difference",
    "Draft",
    "Drawn",
    "Drift",
    "Fit",
    "Forecast",
    "Forgotten",
    "FoundBy",
    "Gathered",
    "GroupChoice",
    "Identification",
    "IdentificationRow",
    "KindAgreement",
    "KindMeasure",
    "LabelRows",
    "Loaded",
    "Look",
    "LookFigure",
    "Masked",
    "MeasuredKinds",
    "Month",
    "Months",
    "NamesMatched",
    "NearCopy",
    "OpenService",
    "Outcome",
    "Pair",
    "PairMeasure",
    "PairRow",
    "Paired",
    "Point",
    "Posted",
    "Prints",
    "Reliability",
    "Remainder",
    "Removal",
    "RepairedImage",
    "Reread",
    "Reviewed",
    "Row",
    "Rule",
    "Rules",
    "ScreeningCounts",
    "Seen",
    "SentBatch",
    "SimilarityChoice",
    "SliceMeasure",
    "Sweep",
    "TextMeasure",
    "ThreeWays",
    "ThresholdsFile",
    "Trial",
    "Verdict",
    "VerdictCounts",
    "Verdicts",
    "Watch",
    "WatchedRound",
    "WaysCounts",
    "Written",
]
