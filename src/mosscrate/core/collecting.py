"""How often Python looks for rings of objects that nothing else holds.

Each full look goes through every object and stops all threads meanwhile, the window's too: a quarter of a second with
50,000 files brought in. Plans and trees hold objects by the hundred thousand and hardly a ring.
"""

import gc

SELDOM = (20_000, 10, 20)                # new objects for a first look, first looks for a second, these for a full one


def collect_seldom() -> None:
    """For the whole program, once, when it starts."""
    gc.set_threshold(*SELDOM)
