"""Machines: what the computers, handhelds and boards that a medium is meant for can take, as TOML files.

The files beside this module are the families that ship; a person adds their own in a folder.
`check` compares a layout, real or forecast, with one of them.
"""

from mosscrate.core.machines.checking import boot_partition, check, largest_in
from mosscrate.core.machines.machine import Boot, Geometry, Limit, Machine, Machines, Names, read_machine

__all__ = ["Boot", "Geometry", "Limit", "Machine", "Machines", "Names", "boot_partition", "check", "largest_in",
           "read_machine"]
