"""Whether a card can be trusted: is it as large as it says, and is it sound.

`size` proves the first with marks that are put back, `log` draws reading and writing along the depth, `reading` and
`writing` fill it. Nothing here opens a card for writing: the guard hands it over.
"""
