"""Every sentence that the program can say, with its place in the code: `./moss words`, to be read in one go."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src/mosscrate"
SAID = re.compile(r"[^\W\d_]{2,}[,;:]? [^\W\d_]{1,}")        # two words beside one another


@dataclass(frozen=True)
class Sentence:
    """One, with {} for what is filled in."""

    place: str
    text: str


def sentences(source: Path = SOURCE) -> Iterator[Sentence]:
    """Of all modules, in their order; docstrings only where a command or a step shows them as its help."""
    for path in sorted(source.rglob("*.py")):
        tree = ast.parse(path.read_text("utf-8"))
        quiet = set(_docstrings(tree))
        for node in _outermost(tree):
            text = _text_of(node)
            if node not in quiet and SAID.search(text):
                yield Sentence(f"{path.relative_to(source.parent)}:{node.lineno}", text)


def _docstrings(tree: ast.Module) -> Iterator[ast.expr]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
            first = node.body[0] if node.body else None
            if isinstance(first, ast.Expr) and not _is_command(node):
                yield first.value


def _is_command(node: ast.AST) -> bool:
    """Whether its docstring is the help of a command."""
    return isinstance(node, ast.FunctionDef) and any("command" in ast.unparse(each) for each in node.decorator_list)


def _outermost(tree: ast.AST) -> Iterator[ast.expr]:
    """Texts that are part of no other one."""
    for child in ast.iter_child_nodes(tree):
        if isinstance(child, ast.JoinedStr) or (isinstance(child, ast.Constant) and isinstance(child.value, str)):
            yield child
        else:
            yield from _outermost(child)


def _text_of(node: ast.expr) -> str:
    if isinstance(node, ast.JoinedStr):
        return "".join(str(part.value) if isinstance(part, ast.Constant) else "{}" for part in node.values)
    return str(node.value) if isinstance(node, ast.Constant) else ""


def main() -> None:
    """Print them."""
    found = list(sentences())
    for each in found:
        print(f"{each.place}\t{' '.join(each.text.split())}")
    print(f"{len(found)} sentences")


if __name__ == "__main__":
    main()
