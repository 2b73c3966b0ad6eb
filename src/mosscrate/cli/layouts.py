"""A layout and its structures as lines of a terminal."""

from __future__ import annotations

from mosscrate.cli.speaking import finding_line, say
from mosscrate.core.contents import Layout
from mosscrate.core.contents.inspecting import Structure
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.maps import MapKind, map_format
from mosscrate.core.sizes import binary, exact
from mosscrate.core.slots import Medium


def print_layout(medium: Medium, layout: Layout) -> None:
    """The medium, its partitions as they lie, free stretches, what was noticed."""
    kinds = {MapKind.NONE: "no partition map", MapKind.MBR: f"MBR, disk id {layout.map_id}",
             MapKind.GPT: f"GPT, disk id {layout.map_id}", MapKind.RDB: "RDB", MapKind.AHDI: "AHDI",
             MapKind.APPLE: "Apple partition map"}
    say(f"{medium.name}  [{medium.tag}]  {exact(layout.size)}, {kinds[layout.map_kind]}")
    for look in layout.partitions:
        _print_partition(look, layout)
    for e in layout.unallocated:
        say(f"  -  {'free':14} {binary(e.length):>9} at {binary(e.start)}")
    for finding in layout.findings:
        say(finding_line(finding))


def _print_partition(look: PartitionLook, layout: Layout) -> None:
    p, v, format = look.partition, look.volume, map_format(layout.map_kind)
    fill = f"{binary(v.used)} used, {binary(v.free or 0)} free, {v.summary}" if v and v.used is not None else ""
    kind = v.kind_name if v and v.kind else p.type_name or "unknown"
    flags = f" {', '.join(map(format.flag_word, p.flags))}" if p.flags else ""
    say(f"  {look.index}  {look.name:14} {binary(p.length):>9} at {binary(p.start):<9} "
        f"{kind:6} {look.role:9}{flags}  {fill}")
    if own := format.facts_of(p):
        say(f"     {', '.join(own)}")


def print_structure(structure: Structure) -> None:
    """Field by field."""
    verdict = f", {structure.verdict}" if structure.verdict else ""
    say(f"\n{structure.heading}, at byte {structure.offset}{verdict}")
    for f in structure.fields:
        raw = f.raw[:8].hex(" ") + (" …" if len(f.raw) > 8 else "")
        say(f"  {f.offset:#06x}  {f.name:28} {raw:26} {f.value}")
