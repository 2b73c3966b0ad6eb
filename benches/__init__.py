"""Measurements as ratios, taken in one run against a plain loop on the same disk: `./moss bench`."""
