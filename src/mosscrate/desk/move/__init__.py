"""Move: source and target side by side, the sheet, the guard, the run."""
