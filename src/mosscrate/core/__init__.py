"""Everything the program can do, without Qt. Each folder is a layer that knows only those below it.

The modules that lie here directly (errors, findings, binary, watch, sizes) are known to every layer.
"""
