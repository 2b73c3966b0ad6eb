"""Twenty ways in which people lay out their cards, by hand: folder → system, "?" where nobody can know, and its files.

A line is FOLDER = CODE: ENDING×COUNT …; files in folders below it have a stroke in front of them.
"""

from __future__ import annotations

from mosscrate.core.volumes import Entry, Kind

CONVENTIONS = {
    "codes below roms": """
        roms/gb = gb: gb×9 zip×3
        roms/gbc = gbc: gbc×7
        roms/gba = gba: gba×12
        roms/nes = nes: nes×20 fds×2
        roms/snes = snes: sfc×8 smc×3
        roms/md = md: md×5 bin×6
        roms/psx = psx: cue×3 bin×5
        bios = -: bin×4""",
    "capital codes at the top": """
        GB = gb: gb×4
        FC = nes: nes×9
        SFC = snes: smc×6
        MD = md: bin×8 gen×2
        PS = psx: cue×2 bin×2 pbp×4
        WS = ws: ws×3 wsc×2
        NEOGEO = neogeo: zip×11
        BIOS = -: bin×3""",
    "long names with codes in brackets": """
        Roms/Game Boy (GB) = gb: gb×5
        Roms/Game Boy Advance (GBA) = gba: gba×6
        Roms/Mega Drive (MD) = md: md×7
        Roms/PC Engine (PCE) = pce: pce×8
        Roms/Neo Geo Pocket (NGP) = ngp: ngp×2 ngc×4
        Saves/GB = -: sav×4""",
    "numbers in front": """
        01 Game Boy = gb: gb×5 gbc×2
        02 Famicom = nes: nes×9
        03 Super Famicom = snes: sfc×4
        04 Mega Drive = md: md×6
        05 Arcade = arcade: zip×30
        06 PC Engine = pce: pce×3
        07 Text = -: txt×4""",
    "makers in front": """
        Nintendo - Game Boy = gb: gb×11
        Nintendo - Game Boy Color = gbc: gbc×4
        Nintendo - Nintendo Entertainment System = nes: nes×8
        Sega - Mega Drive - Genesis = md: md×5
        Sega - Master System - Mark III = sms: sms×6
        Sega - Game Gear = gg: gg×7
        Atari - 2600 = a26: a26×9 bin×2
        NEC - PC Engine - TurboGrafx 16 = pce: pce×4""",
    "German words": """
        Spiele/gameboy = gb: gb×4
        Spiele/gameboyadvance = gba: gba×4
        Spiele/megadrive = md: md×4
        Spiele/mastersystem = sms: sms×4
        Spielstände/gameboy = -: sav×3
        Bilder/gameboy = -: png×4
        Musik = -: mp3×12""",
    "French words": """
        jeux/gb = gb: gb×3
        jeux/nes = nes: nes×3
        jeux/snes = snes: sfc×3
        sauvegardes/gb = -: srm×3
        images/gb = -: png×3""",
    "letters below systems": """
        gb/A-M = gb: gb×30
        gb/N-Z = gb: gb×20
        nes/A-M = nes: nes×12
        nes/N-Z = nes: nes×15
        gba/0-9 = gba: gba×3""",
    "saves and pictures inside": """
        roms/gb = gb: gb×6 /images/png×6 /saves/sav×4
        roms/nes = nes: nes×6 /images/png×6
        roms/sms = sms: sms×6 /media/png×2
        roms/lynx = lynx: lnx×3""",
    "computers": """
        c64 = c64: d64×9 crt×2
        amiga = amiga: adf×12
        zxspectrum = zx: tzx×5 z80×3
        amstradcpc = cpc: cdt×3 dsk×2
        msx = msx: mx1×2 mx2×3 rom×5
        atarist = st: st×3 msa×2
        dos = dos: zip×8""",
    "discs with a folder each": """
        psx/Hill Run = psx: cue×1 bin×2
        psx/Velvet = psx: cue×1 bin×3
        saturn/Tide = sat: cue×1 bin×2
        dreamcast/Quill = dc: gdi×1 bin×3
        pcenginecd/Heron = pcecd: cue×1 bin×2""",
    "what cannot be known": """
        roms/ws = ?:
        roms/ng = ?:
        roms/ps = ?:
        roms/md = ?:
        roms/gb = gb: gb×5
        roms/gba = gba: gba×5
        roms/nes = nes: nes×5
        roms/mine = ?: zip×7""",
    "genres, no system": """
        RPG = ?: gb×5 gba×4
        Racing = ?: gb×3 nes×4
        Puzzle = ?: gba×5""",
    "handheld systems only": """
        ngp = ngp: ngp×3
        ngpc = ngpc: ngc×5
        ws = ws: ws×4
        wsc = wsc: wsc×4
        gg = gg: gg×9
        lynx = lynx: lnx×6
        pokemini = min: min×4
        vb = vb: vb×5""",
    "consoles of the seventies": """
        atari2600 = a26: a26×20
        atari5200 = a52: a52×6
        atari7800 = a78: a78×6
        colecovision = col: col×5 rom×4
        intellivision = int: int×5
        vectrex = vec: vec×6
        odyssey2 = o2: bin×5
        channelf = chf: chf×3""",
    "games and music beside": """
        Games/GB = gb: gb×8
        Games/SFC = snes: sfc×8
        Games/GBA = gba: gba×8
        Music = -: mp3×40
        Video = -: mp4×5
        Books = -: txt×9 pdf×3
        System/apps = -: elf×3""",
    "underscores and small letters": """
        game_boy = gb: gb×4
        game_gear = gg: gg×4
        master_system = sms: sms×4
        mega_drive = md: md×4
        neo_geo_pocket_color = ngpc: ngc×4
        wonder_swan = ws: ws×4""",
    "roms in every name": """
        GB Roms = gb: gb×4
        NES Roms = nes: nes×4
        SNES Roms = snes: sfc×4
        7800 Roms = a78: a78×4
        GBA Games = gba: gba×4""",
    "everything packed": """
        roms/gb = gb: zip×9
        roms/gba = gba: zip×9
        roms/nes = nes: zip×9
        roms/snes = snes: 7z×9
        roms/arcade = arcade: zip×30
        roms/neogeo = neogeo: zip×9
        roms/unsorted = ?: zip×20""",
    "eight letters and three": """
        GAMEBOY = gb: gb×3
        FAMICOM = nes: nes×3
        MEGADRIV = ?: md×1
        MASTERSY = ?: sms×2
        GAMEGEAR = gg: gg×3
        NGP = ngp: ngp×3
        TEXTS = -: txt×6""",
}


def read(text: str) -> tuple[list[Entry], dict[str, str]]:
    """The tree of a convention, and what is true of its folders; "-" for what is no system's."""
    files, truth = list[str](), dict[str, str]()
    for line in filter(None, map(str.strip, text.splitlines())):
        folder, _, rest = line.partition(" = ")
        code, _, held = rest.partition(":")
        truth[folder] = code
        files.append(f"{folder}/")
        for group in held.split():
            *inner, last = group.strip("/").split("/")
            ending, count = last.split("×")
            files += ["/".join([folder, *inner, f"Game {number}.{ending}"]) for number in range(int(count))]
    folders = {path[:at] for path in files for at, letter in enumerate(path) if letter == "/"}
    return [*(Entry(path, Kind.FOLDER, 0, None, 0) for path in sorted(folders)),
            *(Entry(path, Kind.FILE, 40_000, None, 0) for path in files if not path.endswith("/"))], truth
