"""Whether a card can be trusted: is it as large as it says, and is it sound.

`size` proves the first with marks that are put back, `reading` reads every byte and fills the `log` along the depth,
`comparing` holds the card against its backup, `job` does each of them on a bench. Nothing here opens a card for
writing: the guard hands it over.
"""
