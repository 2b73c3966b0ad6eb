"""What the files are: kinds of file, roles of partitions, and the layout of a whole medium.

`survey` reads a medium once and says all of it as plain data; nothing here writes.
"""

from mosscrate.core.contents.layout import Layout, PartitionLook, VolumeLook
from mosscrate.core.contents.record import describe, describe_what_is_read
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.survey import survey

__all__ = ["Layout", "PartitionLook", "Role", "VolumeLook", "describe", "describe_what_is_read", "survey"]
