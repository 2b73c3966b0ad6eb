"""Random cards as they were filled by somebody: folders in a convention of their own, with what is true of them."""

from __future__ import annotations

import random
from dataclasses import dataclass

from mosscrate.core.fill.systems import MAYBE, systems
from mosscrate.core.volumes import Entry, Kind
from tests.fill.samples import SAMPLES

STYLES = ("{name}", "{NAME}", "{number} {name}", "{Name} ({CODE})", "Maker - {Name}", "{code}", "{CODE}")
WORDS = ("Velvet", "Amber", "Quill", "Hill", "Lantern", "Heron", "Corvid", "Tarn", "Moss", "Weaver", "Parade", "Run",
         "Road", "Keeper", "Tide", "Switchback")


@dataclass(frozen=True)
class Filled:
    """A card: its tree, which folder is which system's, which of these can be known, and where saves go."""

    entries: tuple[Entry, ...]
    systems: dict[str, str]
    knowable: set[str]
    contents: dict[str, bytes]
    saves: str

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """Headers of those files that have one."""
        return self.contents.get(entry.path, b"")[at:at + count]


def filled(seed: int, *, strays: float = 0.0, forgotten: float = 0.0) -> Filled:
    """A card; `strays` is the share of files in wrong folders, `forgotten` that of folders with meaningless names."""
    rnd, known = random.Random(seed), systems()
    root, style = rnd.choice(["", "roms", "Games", "jeux"]), rnd.choice(STYLES)
    codes = rnd.sample(sorted(known.by_code), rnd.randrange(4, 30))
    entries, truth, knowable, contents = list[Entry](), dict[str, str](), set[str](), dict[str, bytes]()
    beside = rnd.choice(["beside", "tree", "flat"])
    if root:
        entries.append(Entry(root, Kind.FOLDER, 0, None, 0))
    folders: dict[str, list[str]] = {}
    for number, code in enumerate(codes):
        name = rnd.choice(known.by_code[code].names or (code,))
        is_forgotten = rnd.random() < forgotten
        shown = f"box {number} of mine" if is_forgotten else style.format(
            name=name, NAME=name.upper(), Name=name.title(), code=code, CODE=code.upper(), number=f"{number:02}")
        path = f"{root}/{shown}".strip("/")
        if path.casefold() in (p.casefold() for p in truth):
            continue
        entries.append(Entry(path, Kind.FOLDER, 0, None, 0))
        truth[path], folders[path] = code, []
        for _ in range(rnd.choice([0, 1, 2, 5, 12, 30])):
            ending = rnd.choice(known.by_code[code].endings or known.by_code[code].shared or ("bin",))
            folders[path].append(f"{' '.join(rnd.sample(WORDS, 3))} {rnd.randrange(100)}.{ending}")
    for path, names in folders.items():
        code, inside = truth[path], path
        for name in sorted(set(names)):
            inside = path if rnd.random() >= strays else rnd.choice(list(folders))
            file = f"{inside}/{name}"
            sample = SAMPLES.get(code)
            data = sample[1](random.Random(len(contents) % 3)) if sample and rnd.random() < 0.15 else b""
            if data:
                contents[file] = data
            elif name.rpartition(".")[2] in known.own and known.by_code[code].header and sample:
                data = sample[1](random.Random(0))            # what has the ending has the header too
                contents[file] = data
            entries.append(Entry(file, Kind.FILE, len(data) or 40_000, None, 0))
            if rnd.random() < 0.4:
                entries.append(_save(rnd, path, root, name, beside))
    for path, code in truth.items():
        sole = sum(e.path.startswith(f"{path}/") and known.own.get(e.path.rpartition(".")[2]) == code for e in entries)
        name = path.rpartition("/")[2]
        is_named = known.named(name).get(code, 0) > MAYBE
        if is_named or sole >= 3:
            knowable.add(path)
    saves = {"beside": f"{'{root}/' if root else ''}{{folder}}/{{stem}}.srm", "tree": "saves/{folder}/{stem}.srm",
             "flat": "saves/{stem}.srm"}[beside]
    return Filled(tuple(entries), truth, knowable, contents, saves)


def _save(rnd: random.Random, folder: str, root: str, name: str, beside: str) -> Entry:
    stem, own = name.rpartition(".")[0], folder.removeprefix(f"{root}/") if root else folder
    place = {"beside": f"{folder}/{stem}.srm", "tree": f"saves/{own}/{stem}.srm", "flat": f"saves/{stem}.srm"}[beside]
    return Entry(place, Kind.FILE, rnd.choice([8192, 32_768]), None, 0)
