"""Rescue of a failing card: what is worth most for the time it takes is read next.

docs/proof.md has the plan and its numbers, docs/formats/rescue.md the file that a rescue goes on from.
"""

from mosscrate.core.rescue.areas import Areas, Class
from mosscrate.core.rescue.job import Rescue, finish, how_far, rescue, rescue_and_finish, unfinished_rescue
from mosscrate.core.rescue.rescuing import Ending, Wishes
from mosscrate.core.rescue.telling import Standing

__all__ = ["Areas", "Class", "Ending", "Rescue", "Standing", "Wishes", "finish", "how_far", "rescue",
           "rescue_and_finish", "unfinished_rescue"]
