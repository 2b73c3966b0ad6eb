"""Errors that the core raises on purpose; everything else is a bug.

    MossError
      FormatError     a field on a medium holds what its format forbids
      MediumError     a card, drive or file could not be read or written
        Gone          it is not in its reader any more
        InUse         somebody else is at work on it
        Damaged       a packed file is cut, or not what its checksums say
          BrokenOff   nothing behind a place can be unpacked
          Resized     the disk in it is longer or shorter than it was taken for
      InProof         marks of an interrupted proof stand where contents are wanted
      NotReadYet      a packed file would have to be unpacked further than a glance may
      FitError        something does not fit where it was asked to go
        Unsound       tables and files of a volume contradict one another
      GuardRefusal    the guard does not let a write begin
        ChangedSince  a card is not as a job left it
      CrateError      a kept backup is missing, incomplete or damaged
      JobError        a job could not go on
      MachineError    a description of a machine cannot be used, or there is none of that name
      Stopped         somebody asked the job to stop
"""

from __future__ import annotations

EXIT_FAILED = 1
EXIT_USAGE = 2
EXIT_REFUSED = 3
EXIT_STOPPED = 130
BY_SIGNAL = 128                          # and its number: the exit status of what was ended by a signal


class MossError(Exception):
    """Base of all; its text is a sentence for the person at the bench."""

    exit_code = EXIT_FAILED


class FormatError(MossError):
    """A field on the medium holds a value that its format forbids.

    Attributes:
        format, field: the structure and the field, by the specification's names.
        offset: bytes from the start of the medium or volume that was being read.
        found, expected: what stands there, and what may.
    """

    def __init__(self, format: str, field: str, offset: int, found: object, expected: str) -> None:
        super().__init__(f"{format}: {field} at byte {offset:#x} is {found!r}, expected {expected}.")
        self.format, self.field, self.offset = format, field, offset
        self.found, self.expected = found, expected


class MediumError(MossError):
    """A medium could not be read or written; `offset` says where, in bytes, if that is known."""

    def __init__(self, message: str, offset: int | None = None) -> None:
        super().__init__(message)
        self.offset = offset


class Gone(MediumError):
    """A medium is no longer there: it was pulled, or its reader went away."""


class InUse(MediumError):
    """Somebody else is at work on a medium; the text says who, and since when."""

    exit_code = EXIT_REFUSED


class Damaged(MediumError):
    """A packed file is cut short, or not what its own checksums or published ones say."""


class BrokenOff(Damaged):
    """A packed stream cannot be unpacked any further; what was unpacked is compared with no checksum."""


class Resized(Damaged):
    """A packed disk is longer or shorter than it was taken for. Its true size is known from now on."""


class InProof(MossError):
    """Marks of a proof that was interrupted stand where contents are wanted: these are no contents, and no bad place.

    `offset` is where the first one was met, `nonce` of which proof it is.
    """

    exit_code = EXIT_REFUSED

    def __init__(self, message: str, offset: int = 0, nonce: bytes = b"") -> None:
        super().__init__(message)
        self.offset, self.nonce = offset, nonce


class NotReadYet(MossError):
    """A packed file would have to be unpacked further than a glance into it may: nothing is wrong with it."""


class PlanError(MossError):
    """A folder plan cannot be used."""


class MachineError(MossError):
    """A description of a machine cannot be used, or there is none of that name."""


class FitError(MossError):
    """Something does not fit where it was asked to go."""


class Unsound(FitError):
    """The tables of a volume and its files contradict one another: what looks free may not be. Nothing was written."""


class GuardRefusal(MossError):
    """The guard does not let a write begin; nothing was written."""

    exit_code = EXIT_REFUSED


class ChangedSince(GuardRefusal):
    """A card is not as a job left it: somebody else has written to it since, or it is another card.

    `names` are of files that were written since, as far as they are known.
    """

    def __init__(self, message: str, names: tuple[str, ...] = ()) -> None:
        super().__init__(message)
        self.names = names


class CrateError(MossError):
    """A kept backup is missing, incomplete or damaged."""


class JobError(MossError):
    """A job could not go on; the text says what state it left."""


class Stopped(MossError):
    """The person asked the job to stop."""

    exit_code = EXIT_STOPPED
