"""Is a card as large as it says? Marks are written, read at their own and at other addresses, and put back.

A mark says by itself where it was written (`marks`). `plans` says where marks are put and looked for, `journal` holds
what was there before, `rounds` goes through one round so that folding cannot spoil anything, `findings` draws the
conclusion, `ending` finds the real end, `proving` is the way through all of it. Blocks here have 4 KiB.
"""

from mosscrate.core.proof.size.journal import Journal
from mosscrate.core.proof.size.proving import prove_size, put_back, take_back
from mosscrate.core.proof.size.pulling import PULLED, leave_marks, look_after_pulling
from mosscrate.core.proof.size.verdict import Kind, Verdict

__all__ = ["PULLED", "Journal", "Kind", "Verdict", "leave_marks", "look_after_pulling", "prove_size", "put_back",
           "take_back"]
