"""Read the target back and compare it with the source, file by file."""

from __future__ import annotations

from typing import ClassVar

from mosscrate.core.errors import FormatError, JobError
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.step import Shop, Step
from mosscrate.core.sheet.steps.shared.comparing import verify_copy
from mosscrate.core.sheet.steps.shared.false_size import false_size
from mosscrate.core.sizes import counted
from mosscrate.core.watch import Watch


class Verify(Step, tag="verify", frozen=True):
    """See above."""

    changes: ClassVar[bool] = False
    is_in_place: ClassVar[bool] = False
    is_undone_exactly: ClassVar[bool] = True
    needs_source: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        used, files = (source.layout.used + source.layout.unknown, source.layout.files) if source else (0, 0)
        files_of = f"every file back and compare ({counted(files, 'file')})"
        return Decision(f"Read {files_of if files else 'back what was written and compare'}", 2 * used, 0)

    def carry_out(self, shop: Shop, watch: Watch) -> Done:
        """See Step."""
        if shop.source is None:
            raise JobError("The sheet has no source.")
        source, target = shop.source.raw, shop.target.raw
        try:
            proof = verify_copy(source, target, watch)
        except (JobError, FormatError) as error:
            found = false_size(source, target, min(source.size, target.size), watch)
            if found is None:
                raise
            raise JobError(f"{found.sentence(target)} The source is untouched; take another card.") from error
        return Done(proof.sentence, proof.bytes, is_proof=True)
