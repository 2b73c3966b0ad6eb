"""The job sheet: planned steps, what they do to a layout, the guard, rehearsing, running, taking back."""

from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.sheet import JobSheet, MediumRef, load_sheet, save_sheet
from mosscrate.core.sheet.steps import Eject, GrowPartition, KeepCard, Step, Verify, Which, WriteImage

__all__ = ["Bench", "Eject", "GrowPartition", "JobSheet", "KeepCard", "MediumRef", "Step", "Verify", "Which",
           "WriteImage", "load_sheet", "save_sheet"]
