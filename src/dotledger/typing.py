"""What public functions return, for type annotations.

None of these is made by hand, but for rules: each comes from the function beside its name.

Examples
--------
>>> from dotledger.typing import Forecast
>>> def too_dear(forecast: Forecast) -> bool:
...     return forecast.money > 20
"""

from __future__ import annotations

from dotledger.acting.cover import Covered
from dotledger.core.choosing.aims import Aim
from dotledger.core.choosing.choice import Choice, GroupChoice
from dotledger.core.choosing.outcomes import Outcome
from dotledger.core.choosing.three_ways import ThreeWays, WaysCounts
from dotledger.core.comparing.agreement import Agreement, KindAgreement
from dotledger.core.comparing.claims import Checked
from dotledger.core.comparing.compare import Comparison, Pair
from dotledger.core.comparing.differences import Difference
from dotledger.core.comparing.drift import Change, Drift
from dotledger.core.comparing.found_by import FoundBy
from dotledger.core.comparing.gates import Verdicts
from dotledger.core.comparing.planned_looks import Look, LookFigure, Watch, WatchedRound
from dotledger.core.copying.prints import NearCopy, Prints
from dotledger.core.counting.rows import KindMeasure, Point, Row
from dotledger.core.deciding.conditions import Condition, Rule, Rules
from dotledger.core.deciding.masking import Masked
from dotledger.core.deciding.verdicts import Decisions, Verdict, VerdictCounts
from dotledger.core.measuring.result import LabelRows
from dotledger.core.pairing.rows import Paired
from dotledger.core.questions.confusion import Confusion
from dotledger.core.questions.conventions import Fit
from dotledger.core.questions.counts import CountAgreement
from dotledger.core.questions.details import DetailMeasure
from dotledger.core.questions.diagnosis import Diagnosis
from dotledger.core.questions.reliability import Reliability
from dotledger.core.questions.screening import ScreeningCounts
from dotledger.core.questions.slices import SliceMeasure
from dotledger.core.questions.sweep import Sweep
from dotledger.core.questions.text import TextMeasure
from dotledger.core.tables.details import Details
from dotledger.core.tables.image_names import NamesMatched
from dotledger.core.tables.reviewed import Reviewed
from dotledger.formats.annotations.collecting import Loaded, Written
from dotledger.formats.thresholds_files import ThresholdsFile
from dotledger.images.gather import Gathered
from dotledger.ledger.batches import Batch
from dotledger.ledger.usage import Month
from dotledger.report.pictures.draw import Drawn
from dotledger.rereading import Reread
from dotledger.sending.batch.progress import SentBatch
from dotledger.sending.forecast import Forecast
from dotledger.sending.service import OpenService, Seen
from dotledger.sending.trial import Trial
from dotledger.services.description import Description
from dotledger.services.drafting.drafts import Draft

__all__ = [
    "Agreement",
    "Aim",
    "Batch",
    "Change",
    "Checked",
    "Choice",
    "Comparison",
    "Condition",
    "Confusion",
    "CountAgreement",
    "Covered",
    "Decisions",
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
    "FoundBy",
    "Gathered",
    "GroupChoice",
    "KindAgreement",
    "KindMeasure",
    "LabelRows",
    "Loaded",
    "Look",
    "LookFigure",
    "Masked",
    "Month",
    "NamesMatched",
    "NearCopy",
    "OpenService",
    "Outcome",
    "Pair",
    "Paired",
    "Point",
    "Prints",
    "Reliability",
    "Reread",
    "Reviewed",
    "Row",
    "Rule",
    "Rules",
    "ScreeningCounts",
    "Seen",
    "SentBatch",
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
