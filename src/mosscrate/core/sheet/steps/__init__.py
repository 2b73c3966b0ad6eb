"""The steps that a sheet can hold, each in one file: a new one is its file and its line here."""

from __future__ import annotations

from typing import TypeAlias, get_args

from mosscrate.core.sheet.step import Existing as Existing
from mosscrate.core.sheet.step import Step as Step
from mosscrate.core.sheet.step import Which as Which
from mosscrate.core.sheet.steps.card.eject import Eject as Eject
from mosscrate.core.sheet.steps.card.empty import EmptyCard as EmptyCard
from mosscrate.core.sheet.steps.card.keep import KeepCard as KeepCard
from mosscrate.core.sheet.steps.card.swap import SwapBytes as SwapBytes
from mosscrate.core.sheet.steps.card.verify import Verify as Verify
from mosscrate.core.sheet.steps.card.write import WriteImage as WriteImage
from mosscrate.core.sheet.steps.card.write_fitted import WriteFitted as WriteFitted
from mosscrate.core.sheet.steps.files.copy import CopyFiles as CopyFiles
from mosscrate.core.sheet.steps.files.folder import MakeFolder as MakeFolder
from mosscrate.core.sheet.steps.files.folder import MakeFolders as MakeFolders
from mosscrate.core.sheet.steps.files.put import PutFiles as PutFiles
from mosscrate.core.sheet.steps.files.regroup import RegroupFiles as RegroupFiles
from mosscrate.core.sheet.steps.files.remove import RemoveFiles as RemoveFiles
from mosscrate.core.sheet.steps.files.rename import RenameFile as RenameFile
from mosscrate.core.sheet.steps.files.traits import SetTraits as SetTraits
from mosscrate.core.sheet.steps.map.add import AddPartition as AddPartition
from mosscrate.core.sheet.steps.map.code import BringCode as BringCode
from mosscrate.core.sheet.steps.map.code import RemoveCode as RemoveCode
from mosscrate.core.sheet.steps.map.drives import FillWithDrives as FillWithDrives
from mosscrate.core.sheet.steps.map.mark import FlagPartition as FlagPartition
from mosscrate.core.sheet.steps.map.mark import TypePartition as TypePartition
from mosscrate.core.sheet.steps.map.mend import MendMap as MendMap
from mosscrate.core.sheet.steps.map.move import MovePartition as MovePartition
from mosscrate.core.sheet.steps.map.new import NewMap as NewMap
from mosscrate.core.sheet.steps.map.remove import RemovePartition as RemovePartition
from mosscrate.core.sheet.steps.map.tune import TunePartition as TunePartition
from mosscrate.core.sheet.steps.volume.bring import CopyPartition as CopyPartition
from mosscrate.core.sheet.steps.volume.format import FormatPartition as FormatPartition
from mosscrate.core.sheet.steps.volume.grow import GrowPartition as GrowPartition
from mosscrate.core.sheet.steps.volume.label import LabelPartition as LabelPartition
from mosscrate.core.sheet.steps.volume.rebuild import RebuildPartition as RebuildPartition
from mosscrate.core.sheet.steps.volume.refresh import RefreshPartition as RefreshPartition
from mosscrate.core.sheet.steps.volume.repair import RebuildBitmap as RebuildBitmap
from mosscrate.core.sheet.steps.volume.repair import ReplayJournal as ReplayJournal
from mosscrate.core.sheet.steps.volume.shrink import ShrinkPartition as ShrinkPartition

AnyStep: TypeAlias = (                         # in the order in which people work
    KeepCard | WriteImage | WriteFitted | CopyPartition | RefreshPartition | CopyFiles | BringCode | RemoveCode
    | EmptyCard | SwapBytes | NewMap | TunePartition | AddPartition | RemovePartition | GrowPartition
    | ShrinkPartition | MovePartition | LabelPartition | FlagPartition | TypePartition | FormatPartition
    | RebuildPartition | FillWithDrives | ReplayJournal | RebuildBitmap | MendMap | PutFiles | RenameFile
    | RegroupFiles | RemoveFiles | MakeFolder | MakeFolders | SetTraits | Verify | Eject)
ALL: tuple[type[Step], ...] = get_args(AnyStep)
