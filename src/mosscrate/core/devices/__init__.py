"""Running devices that are reached over SFTP: looked through, kept like a card, and given files back."""

from mosscrate.core.devices.address import Address
from mosscrate.core.devices.connection import ChangedHost, Device, NeedsPassword, UnknownHost
from mosscrate.core.devices.known import KnownDevices

__all__ = ["Address", "ChangedHost", "Device", "KnownDevices", "NeedsPassword", "UnknownHost"]
