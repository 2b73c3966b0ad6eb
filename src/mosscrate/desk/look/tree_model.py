"""The files of one partition for a tree view."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from PyQt6.QtCore import QAbstractItemModel, QModelIndex, QObject, Qt

from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.sizes import binary, exact
from mosscrate.core.volumes import Entry, Kind, Tree
from mosscrate.core.volumes.ffs import protection_text
from mosscrate.desk.theme import color

COLUMNS = ("name", "size", "changed")
_INK = {FileKind.SAVE: "warning", FileKind.FIRMWARE: "note"}


@dataclass(slots=True, eq=False)
class Node:
    """One row; folders first, then by name."""

    entry: Entry | None
    parent: Node | None = None
    children: list[Node] = field(default_factory=list)
    row: int = 0


class TreeModel(QAbstractItemModel):
    """A whole tree as read; its nodes are built beside the window."""

    def __init__(self, root: Node, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.root = root

    def entry(self, index: QModelIndex) -> Entry | None:
        """The entry of a row."""
        node = index.internalPointer() if index.isValid() else None
        return node.entry if isinstance(node, Node) else None

    def index(self, row: int, column: int, parent: QModelIndex | None = None) -> QModelIndex:
        """Qt."""
        children = self._node(parent).children
        return self.createIndex(row, column, children[row]) if 0 <= row < len(children) else QModelIndex()

    def parent(self, index: QModelIndex | None = None) -> Any:  # noqa: ANN401 - Qt overloads it
        """Qt."""
        if index is None:
            return super().parent()
        above = self._node(index).parent
        return QModelIndex() if above is None or above.parent is None else self.createIndex(above.row, 0, above)

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """Qt."""
        return len(self._node(parent).children)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """Qt."""
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: ANN401
        """Qt."""
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section]
        return None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:  # noqa: ANN401
        """Qt."""
        entry = self.entry(index)
        if entry is None:
            return None
        match role:
            case Qt.ItemDataRole.DisplayRole:
                return _text(entry, self._node(index), index.column())
            case Qt.ItemDataRole.ToolTipRole:
                return "\n".join((entry.path, exact(entry.size), *_own_words(entry)))
            case Qt.ItemDataRole.TextAlignmentRole if index.column() == 1:
                return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            case Qt.ItemDataRole.ForegroundRole:
                if index.column() or entry.is_hidden:
                    return color("muted")
                return color(_INK.get(kind_of(entry), "text")) if entry.kind == Kind.FILE else color("text")
        return None

    def _node(self, index: QModelIndex | None) -> Node:
        node = index.internalPointer() if index is not None and index.isValid() else None
        return node if isinstance(node, Node) else self.root


def nodes_of(tree: Tree) -> Node:
    """The rows of a tree, above them a root without an entry."""
    root = Node(None)
    folders = {"": root}
    for entry in tree.entries:
        above = folders.get(entry.path.rpartition("/")[0], root)
        node = Node(entry, above)
        above.children.append(node)
        if entry.kind == Kind.FOLDER:
            folders[entry.path] = node
    for folder in folders.values():
        folder.children.sort(key=lambda n: (n.entry.kind != Kind.FOLDER, n.entry.name.casefold()) if n.entry else ())
        for number, node in enumerate(folder.children):
            node.row = number
    return root


def _own_words(entry: Entry) -> tuple[str, ...]:
    """What only OFS and FFS, or only HFS, keep of a file."""
    if entry.protection is None:
        return (f"and a resource fork of {exact(entry.resource)}",) if entry.resource else ()
    return (protection_text(entry.protection), *((f"“{entry.comment}”",) if entry.comment else ()))


def _sizes(entry: Entry) -> str:
    return f"{binary(entry.size)} + {binary(entry.resource)}" if entry.resource else binary(entry.size)


def _text(entry: Entry, node: Node, column: int) -> str:
    if column == 0:
        return entry.name
    if column == 1:
        return f"{len(node.children)} in it" if entry.kind == Kind.FOLDER else _sizes(entry)
    return f"{datetime.fromtimestamp(entry.modified, UTC):%d %b %Y}" if entry.modified is not None else ""
