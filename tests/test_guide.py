"""The recipes of the guide, done as they stand there: each command on the made-up bench, its output as printed."""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import pytest

from mosscrate.demo import library

GUIDE = Path(__file__).parents[1] / "docs/guide"
RECIPES = sorted(path for path in (GUIDE / "recipes").glob("*.md") if path.name != "README.md")
ANY = "…"                                # on a line: anything; alone on one: any lines


@pytest.fixture(scope="module")
def heron_lane(tmp_path_factory):
    folder = tmp_path_factory.mktemp("guide") / "bench"
    told = subprocess.run([sys.executable, "-m", "mosscrate.cli", "demo", "--build", "--folder", folder], check=True,
                          text=True, capture_output=True).stdout
    assert f"MOSSCRATE_SLOTS={folder}/slots MOSSCRATE_CRATE={folder}/crate MOSSCRATE_STATE={folder}/state" in told
    return folder


def told(path: Path) -> list[tuple[list[str], list[str]]]:
    """Commands of a recipe, each with the lines that it prints."""
    found: list[tuple[list[str], list[str]]] = []
    for block in re.findall(r"```console\n(.*?)```", path.read_text("utf-8"), re.DOTALL):
        for line in block.splitlines():
            if line.startswith("$ "):
                found.append((shlex.split(line[2:]), []))
            else:
                found[-1][1].append(line)
    return found


def pattern_of(lines: list[str]) -> re.Pattern[str]:
    """What a command is to print: blanks are as wide as they like."""
    parts = ["(?:.*\n)*" if line == ANY else
             r"\s*" + r"\s+".join(re.escape(word).replace(re.escape(ANY), ".*") for word in line.split()) + r"\s*\n"
             for line in lines]
    return re.compile("".join(parts))


@pytest.mark.parametrize("path", RECIPES, ids=lambda path: path.stem)
def test_a_recipe_prints_what_it_says(path, heron_lane, tmp_path):
    bench = tmp_path / "bench"
    subprocess.run(["cp", "-a", "--sparse=always", heron_lane, bench], check=True)
    library.build(tmp_path / "games")
    environment = {**os.environ, "MOSSCRATE_SLOTS": str(bench / "slots"), "MOSSCRATE_CRATE": str(bench / "crate"),
                   "MOSSCRATE_STATE": str(bench / "state"), "COLUMNS": "200"}
    for words, lines in told(path):
        assert words[0] == "mosscrate"
        done = subprocess.run([sys.executable, "-m", "mosscrate.cli", *words[1:]], cwd=tmp_path, env=environment,
                              text=True, capture_output=True, check=False)
        assert pattern_of(lines).fullmatch(done.stdout), f"{' '.join(words)}:\n{done.stdout}{done.stderr}"


def test_recipes_are_short_and_all_of_them_are_in_the_index():
    index = (GUIDE / "recipes/README.md").read_text("utf-8")
    for path in RECIPES:
        assert f"]({path.name})" in index
        assert len(path.read_text("utf-8").splitlines()) <= 70, path.name


def test_every_link_of_the_guide_leads_somewhere():
    for path in (*GUIDE.rglob("*.md"), GUIDE.parents[1] / "README.md"):
        for link in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", path.read_text("utf-8")):
            assert (path.parent / link).exists(), f"{path.name}: {link}"
