"""What folders of a card are for by their names alone: saves, states, pictures, system files, games, or else."""

from __future__ import annotations

from enum import StrEnum

from mosscrate.core.fill.systems import forms


class Use(StrEnum):
    """What a folder holds besides games of one system."""

    SAVES = "saves"
    STATES = "save states"
    PICTURES = "pictures"
    SYSTEM = "system files"
    GAMES = "games"
    OTHER = "something else"


# In the ten languages that menus come in; letters and digits only.
_WORDS = {
    Use.SAVES: "save saves savefile savefiles savedata savegame savegames sav srm sram battery memcard memcards "
               "memorycard memorycards mcd sauvegarde sauvegardes speicherstand spielstand spielstaende guardados "
               "partidas salvataggi opgeslagen zapisy saveram bkram",
    Use.STATES: "state states savestate savestates etats zustaende estados stati statusy",
    Use.PICTURES: "picture pictures images image img imgs media boxart boxarts covers cover art artwork thumbnails "
                  "snap snaps titles screenshots downloadedimages bilder imagenes immagini obrazy afbeeldingen pic "
                  "pics scraped screens wheel marquees",
    Use.SYSTEM: "bios system systemfiles firmware sysfiles systeme sistema",
    Use.GAMES: "rom roms game games jeux spiele juegos giochi gry spellen jogos romset romsets library",
    Use.OTHER: "music musik musique video videos movies filme books ebooks comics manuals manual docs documents apps "
               "app themes theme tools tool cheats cheat shaders overlays bezels config configs settings etc usr lib "
               "bin boot var opt home dev proc sys tmp trash trashes recycler systemvolumeinformation lostfound "
               "found000 dcim retro cores core playlists logs log update updates screensavers wallpapers fonts sounds "
               "lang language menu programs",
}
_USES = {word: use for use, words in _WORDS.items() for word in words.split()}


def use_of(name: str) -> Use | None:
    """What a folder is for by its name; None for a name that says nothing of that kind."""
    return next((_USES[form] for form, _ in forms(name) if form in _USES), None)
