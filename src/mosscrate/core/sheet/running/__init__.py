"""Carrying sheets out: guarded, rehearsed, noted, finished and taken back."""
