"""A layout as plain values for JSON: the shape that `look --json` promises and backups store."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.inspecting import Structure
from mosscrate.core.contents.layout import Layout, PartitionLook, VolumeLook
from mosscrate.core.contents.survey import survey
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.findings import Finding


def describe(layout: Layout) -> dict[str, Any]:
    """Bytes for every size and offset."""
    return {
        "size": layout.size, "sector": layout.sector, "container": layout.container, **_packing(layout),
        "map": {"kind": str(layout.map_kind), "id": layout.map_id},
        "partitions": [_partition(p) for p in layout.partitions],
        "unallocated": [{"start": e.start, "length": e.length} for e in layout.unallocated],
        "findings": [describe_finding(f) for f in layout.findings]}


def describe_what_is_read(blocks: Blocks) -> dict[str, Any]:
    """The same of a medium as far as it can be read; empty where not even its map can."""
    try:
        return describe(survey(blocks))
    except (MediumError, FormatError):
        return {}


def describe_finding(finding: Finding) -> dict[str, Any]:
    """A finding with its severity as a word."""
    return {"severity": str(finding.severity), "sentence": finding.sentence, "where": finding.where,
            "partition": finding.partition, "remedy": finding.remedy}


def describe_structure(structure: Structure) -> dict[str, Any]:
    """A structure with its fields; offsets of fields count from the structure, bytes are hexadecimal."""
    return {"title": structure.title, "offset": structure.offset, "partition": structure.partition,
            "verdict": structure.verdict,
            "fields": [{"name": f.name, "offset": f.offset, "bytes": f.raw.hex(), "value": f.value}
                       for f in structure.fields]}


def _packing(layout: Layout) -> dict[str, Any]:
    packing = layout.packing
    if packing is None:
        return {}
    return {"packing": {"kinds": list(packing.kinds), "member": packing.member, "others": list(packing.others),
                        "packed": packing.packed, "parts": packing.parts, "size_known": layout.is_size_known,
                        "unread": [p.index for p in layout.partitions if p.is_unread]}}


def _partition(look: PartitionLook) -> dict[str, Any]:
    p = look.partition
    own = {"environment": asdict(p.environment)} if p.environment else {}
    return {"index": p.index, "start": p.start, "length": p.length, "type": p.type, "label": p.label,
            "flags": list(p.flags), "role": str(look.role), **own, "volume": _volume(look.volume)}


def _volume(volume: VolumeLook | None) -> dict[str, Any] | None:
    if volume is None:
        return None
    own = {"variant": volume.variant} if volume.variant not in ("", volume.kind) else {}
    return {"kind": volume.kind, "label": volume.label, "id": volume.id, "block": volume.block,
            "size": volume.size, "used": volume.used, "free": volume.free, "clean": volume.is_clean, **own}
