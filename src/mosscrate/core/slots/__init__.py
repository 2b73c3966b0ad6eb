"""What is at hand: cards in readers, drives, image files, and simulated slots.

Everything here is a `Medium`: what a person sees, and how to open it for reading.
"""

from mosscrate.core.slots.medium import Medium, Source
from mosscrate.core.slots.shelf import Shelf

__all__ = ["Medium", "Shelf", "Source"]
