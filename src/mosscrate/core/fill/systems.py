"""The systems by the trade's short codes: what their folders are called, and which endings their files have."""

from __future__ import annotations

import re
import tomllib
import unicodedata
from collections import defaultdict
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

import msgspec

from mosscrate.core.errors import PlanError

_UMLAUTS = str.maketrans({"ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss"})
_LETTERS = re.compile(r"[^0-9a-z]+")
_NUMBER = re.compile(r"^\d\d[ ._-]+")
_BRACKET = re.compile(r"\(([^()]+)\)\s*$")
_FILLER = re.compile(r"\b(roms?|games?)\b")
WHOLE, CODE, TAIL, FRONT = 4.0, 4.0, 4.0, 3.5
MAYBE, SHARED_MAYBE = 1.5, 1.2


class System(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One line of systems.toml; see there."""

    about: str
    names: tuple[str, ...] = ()
    maybe: tuple[str, ...] = ()
    endings: tuple[str, ...] = ()
    shared: tuple[str, ...] = ()
    kin: tuple[str, ...] = ()
    header: str = ""
    sizes: tuple[int, ...] = ()
    saves: tuple[int, ...] = ()


@dataclass(frozen=True)
class Systems:
    """All of them by code.

    Attributes:
        by_code: the systems.
        by_name: letters and digits of a folder's name → (code, weight).
        own: ending → the only system that has it for itself.
        shared: ending → systems that use it beside others.
        alone: endings that nobody else uses, systems that share a folder with theirs left aside.
    """

    by_code: dict[str, System]
    by_name: dict[str, tuple[tuple[str, float], ...]]
    own: dict[str, str]
    shared: dict[str, tuple[str, ...]]
    alone: frozenset[str]

    def are_kin(self, a: str, b: str) -> bool:
        """Whether two commonly lie in one folder."""
        return a == b or b in self.by_code[a].kin or a in self.by_code[b].kin

    def named(self, folder: str) -> dict[str, float]:
        """Which systems a folder's name stands for, with the weight of that evidence."""
        found: dict[str, dict[str, float]] = {}
        for form, share in forms(folder):
            for code, weight in self.by_name.get(form, ()):
                own = found.setdefault(code, {})
                own[form] = max(own.get(form, 0.0), weight * share)
        return {code: min(WHOLE, sum(each.values())) for code, each in found.items()}    # bracket and front agree

    def called(self, folder: str) -> str:
        """The system that a folder's name stands for, where it means one only; "" else."""
        named = self.named(folder)
        best = max(named, key=lambda code: named[code], default="")
        return best if best and named[best] > MAYBE else ""


def letters(name: str) -> str:
    """Letters and digits of a name, as names are compared: umlauts by two letters, other accents off."""
    plain = unicodedata.normalize("NFKD", unicodedata.normalize("NFC", name.casefold()).translate(_UMLAUTS))
    return _LETTERS.sub("", plain)


def forms(folder: str) -> list[tuple[str, float]]:
    """In what forms a folder's name is looked up, each with its share of the full weight."""
    plain = _NUMBER.sub("", folder) or folder
    found = [(letters(folder), 1.0), (letters(plain), 1.0)]
    if bracket := _BRACKET.search(plain):
        found += [(letters(bracket[1]), CODE / WHOLE), (letters(plain[:bracket.start()]), FRONT / WHOLE)]
    if " - " in plain:
        found.append((letters(plain.rpartition(" - ")[2]), TAIL / WHOLE))
    without = letters(_FILLER.sub(" ", plain.casefold()))
    if without:
        found.append((without, 1.0))
    return [(form, share) for form, share in found if form]


@cache
def systems() -> Systems:
    """Those that ship. Raises PlanError where the data is damaged."""
    text = (files("mosscrate.core.fill") / "data" / "systems.toml").read_text("utf-8")
    by_code = {}
    for code, told in tomllib.loads(text).items():
        try:
            by_code[code] = msgspec.convert(told, System)
        except msgspec.ValidationError as error:
            raise PlanError(f"systems.toml: {code}: {error}") from error
    names, maybe = defaultdict[str, list[str]](list), defaultdict[str, list[str]](list)
    own, shared = dict[str, str](), defaultdict[str, list[str]](list)
    for code, system in by_code.items():
        for name in dict.fromkeys((*system.names, letters(code) if letters(code) not in system.maybe else "")):
            if name:
                names[name].append(code)
        for name in system.maybe:
            maybe[name].append(code)
        own |= dict.fromkeys(system.endings, code)
        for ending in system.shared:
            shared[ending].append(code)
    weighed = {name: tuple((code, WHOLE if len(codes) == 1 else SHARED_MAYBE) for code in codes)
               for name, codes in names.items()}
    for name, codes in maybe.items():
        every = [code for code in codes if code not in names.get(name, ())]
        alone = len(every) + len(names.get(name, ())) == 1
        weighed[name] = (*weighed.get(name, ()), *((code, MAYBE if alone else SHARED_MAYBE) for code in every))
    nobody_elses = frozenset(ending for ending, code in own.items() if all(
        other in by_code[code].kin or code in by_code[other].kin for other in shared.get(ending, ())))
    return Systems(by_code, weighed, own, {ending: tuple(codes) for ending, codes in shared.items()}, nobody_elses)
