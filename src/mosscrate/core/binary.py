"""Read and write single structured-dtype records, with errors that name the spot."""

from __future__ import annotations

import struct
from collections.abc import Container
from dataclasses import dataclass
from typing import Any, ClassVar, TypeVar

import numpy as np

from mosscrate.core.errors import FormatError

T = TypeVar("T")
Record = np.ndarray[Any, np.dtype[Any]]


@dataclass(frozen=True)
class Place:
    """Where one record lies: format name, its dtype, byte offset on the medium."""

    format: str
    dtype: np.dtype[Any]
    base: int  # bytes from the start of the medium or volume

    def read(self, data: bytes) -> Record:
        """The record as a 0-d array; raises FormatError if `data` is too short."""
        size = self.dtype.itemsize
        if len(data) < size:
            raise FormatError(self.format, "record", self.base, f"{len(data)} bytes", f"{size} bytes")
        return np.frombuffer(data, self.dtype, count=1).reshape(()).copy()

    def require(self, field: str, found: T, allowed: Container[T], expected: str = "") -> T:
        """Pass `found` through; raises FormatError if it is not in `allowed`."""
        if found not in allowed:
            raise self.error(field, found, expected or f"a value in {allowed}")
        return found

    def put(self, record: Record, **values: int | bytes) -> None:
        """Set fields; raises FormatError where NumPy would overflow or cut off."""
        for field, value in values.items():
            kind, _ = self._slot(field)
            if isinstance(value, bytes):
                if len(value) != kind.itemsize:
                    raise self.error(field, value, f"{kind.itemsize} bytes")
                record[field] = np.void(value)
            else:
                bounds = np.iinfo(kind)
                if not bounds.min <= value <= bounds.max:
                    raise self.error(field, value, f"{bounds.min}..{bounds.max}")
                record[field] = value

    def error(self, field: str, found: object, expected: str) -> FormatError:
        """The error that names this field's offset."""
        return FormatError(self.format, field, self._slot(field)[1], found, expected)

    def _slot(self, field: str) -> tuple[np.dtype[Any], int]:
        """Type of a field, and its byte offset on the medium."""
        assert self.dtype.fields is not None, "records have structured dtypes"
        return self.dtype.fields[field][0], self.base + self.dtype.fields[field][1]


class Packer:
    """Writes single records of a dtype from plain integers and bytes, many times faster than a 0-d array."""

    _CODES: ClassVar[dict[str, str]] = {"u1": "B", "u2": "H", "u4": "I", "u8": "Q"}

    def __init__(self, dtype: np.dtype[Any]) -> None:
        assert dtype.fields is not None, "a record has fields"
        inner = [dtype.fields[name][0] for name in dtype.names or ()]
        codes = [f"{t.itemsize}s" if t.kind == "V" else self._CODES[t.str[1:]] for t in inner]
        self._struct = struct.Struct("<" + "".join(codes))
        self._usual: dict[str, int | bytes] = {
            name: b"" if t.kind == "V" else 0 for name, t in zip(dtype.names or (), inner, strict=True)}
        assert self._struct.size == dtype.itemsize, "little-endian, without gaps"

    def pack(self, **values: int | bytes) -> bytes:
        """One record; what is left out is zero. Raises struct.error for what a field cannot hold."""
        return self._struct.pack(*(self._usual | values).values())
