"""The desktop's disk service: it tells what is attached and mounted, and opens devices for people who may not.

`bus` sends calls and turns refusals into sentences, `view` holds what the service tells, `service` asks it for acts.
Source of all of it: the D-Bus interfaces of UDisks2, from version 2.1 on. Whether a person may is decided by polkit,
which asks the person; nothing of ours runs with more rights than theirs.
"""

from mosscrate.core.slots.service.bus import MustAsk
from mosscrate.core.slots.service.service import Service
from mosscrate.core.slots.service.view import Attached, Drive, View

__all__ = ["Attached", "Drive", "MustAsk", "Service", "View"]
