"""What a bench knows of a medium besides what is on it: interrupted jobs, what proofs found wrong with it, what its
backup lacks, its mounts."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import replace

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import Layout, PartitionLook
from mosscrate.core.contents.survey import GROW_INTO, SHOWS_AGAIN
from mosscrate.core.crate.lacking import files_lacking, lack_of
from mosscrate.core.errors import CrateError, InProof, MediumError, NotReadYet
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.running.job import Log, Status
from mosscrate.core.sheet.running.recovering import Interruption, in_proof, interruption
from mosscrate.core.sheet.verdicts import bad_verdicts
from mosscrate.core.slots import Medium


def known(medium: Medium, blocks: Blocks, layout: Layout, bench: Bench) -> tuple[Layout, Interruption | None]:
    """The layout with that among its findings, in front; and the job that was interrupted. Raises MediumError."""
    stopped = None
    with suppress(NotReadYet, InProof):                      # whatever is packed was not written by a job
        stopped = in_proof(medium, blocks) or interruption(blocks, bench)
    bad = tuple(bad_verdicts(medium, bench))
    more = (*((stopped.finding,) if stopped else ()), *bad, *_of_backup(medium, bench),
            *_of_mount(medium, layout))
    found = [f for f in layout.findings if not (stopped and stopped.proof and f.remedy == SHOWS_AGAIN)]   # said already
    if bad:                                                  # what is not there is not offered
        found = [replace(f, remedy="") if f.remedy == GROW_INTO else f for f in found]
    if medium.in_use.startswith("mounted"):
        seeming = {look.index for look in layout.partitions if look.volume is not None and look.volume.unsound}
        found = [replace(f, severity=Severity.NOTE, remedy="") if f.partition in seeming else f for f in found]
        layout = replace(layout, partitions=tuple(_while_in_use(look, medium) for look in layout.partitions))
    return replace(layout, findings=(*more, *found)), stopped


def written_from(medium: Medium, bench: Bench) -> Medium | None:
    """The image that a card was written from last, by the jobs of this bench, where it is still at hand."""
    for job in sorted(Log(bench.state).jobs(), key=lambda job: job.id, reverse=True):
        target, source = job.sheet.target, job.sheet.source
        if target is None or target.key != medium.key or job.status != Status.DONE:
            continue
        if source is None or not source.path or not any(step.writes_all for step in job.sheet.steps):
            continue
        with suppress(MediumError):
            found = bench.shelf.find(source.path)
            return found if found.key == source.key else None
    return None


def _of_backup(medium: Medium, bench: Bench) -> Iterator[Finding]:
    if medium.backup:
        with suppress(CrateError):
            backup = bench.crate.find(medium.backup)
            yield from (replace(lack, sentence=f"{lack.sentence} {files_lacking(backup)}")
                        for lack in lack_of(backup.record))


def _while_in_use(look: PartitionLook, medium: Medium) -> PartitionLook:
    """A volume that seems to contradict itself, while it may only be at work."""
    if look.volume is None or not look.volume.unsound:
        return look
    return replace(look, volume=replace(look.volume, unsound=f"It is {medium.in_use}. Unmount it first."))


def _of_mount(medium: Medium, layout: Layout) -> Iterator[Finding]:
    volumes = [look.volume for look in layout.partitions if look.volume is not None]
    if medium.in_use.startswith("mounted") and any(volume.unsound for volume in volumes):
        yield Finding(Severity.WARNING, f"It is {medium.in_use}, so its tables and folders were read while the system "
                      "holds some of them back: what seems to contradict itself may be whole.",
                      remedy="Unmount it and look again before anything of that is believed.")
    elif medium.in_use and any(not volume.is_clean for volume in volumes):
        yield Finding(Severity.NOTE, f"It is {medium.in_use}: a volume that is at work is noted as not put away.",
                      remedy="Unmounted, it tells whether anything is left to be mended.")
