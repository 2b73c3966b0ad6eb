"""proof: can this card be trusted?"""

from __future__ import annotations

from typing import Any

import click

from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import json_option, say, show_json
from mosscrate.core.contents import Layout, survey
from mosscrate.core.errors import MediumError
from mosscrate.core.proof.job import (
    compare_with_kept,
    give_up_and_prove,
    history,
    prove,
    prove_every_block,
    put_back_on,
    read,
    unfinished_on,
    write,
)
from mosscrate.core.proof.job import pull as pull_step
from mosscrate.core.proof.reading import Hit, Soundness
from mosscrate.core.proof.size import Verdict
from mosscrate.core.proof.writing import Wear
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.slots import Medium

QUESTIONS = ("size", "write", "read", "kept")


@click.command()
@click.argument("card")
@click.option("--size", "asks_size", is_flag=True, help="Is it as large as it says? Marks are written and put back.")
@click.option("--read", "asks_read", is_flag=True, help="Can every byte be read? Nothing is written.")
@click.option("--kept", "asks_kept", is_flag=True, help="Is it still what was kept? It is compared with its newest "
              "backup.")
@click.option("--write", "asks_write", is_flag=True, help="Does it take what is written? Each stretch is written, "
              "read, and given its contents again.")
@click.option("--every-block", is_flag=True, help="The full proof: all of it is written at once, then all of it read. "
              "Say --keep-contents or --lose-contents.")
@click.option("--keep-contents", is_flag=True, help="What is on it is held on this computer meanwhile, and put back.")
@click.option("--lose-contents", is_flag=True, help="What is on it is lost.")
@click.option("--pull", is_flag=True, help="Leave marks on it while it is taken out and put in again; ask again "
              "then.")
@click.option("--put-back", is_flag=True, help="Put back what an interrupted proof has left on it.")
@click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it; for --size.")
@json_option
@click.pass_obj
def proof(bench: Bench, card: str, asks_size: bool, asks_read: bool, asks_kept: bool, asks_write: bool,
          every_block: bool, keep_contents: bool, lose_contents: bool, pull: bool,
          put_back: bool, tag: str, as_json: bool) -> None:
    """Prove whether a CARD is as large as it says and can be read everywhere; everything on it stays."""
    medium = bench.shelf.find(card)
    if every_block and keep_contents == lose_contents:
        raise click.UsageError("Say whether what is on the card is held and put back (--keep-contents) or lost "
                               "(--lose-contents).")
    if lose_contents and (not every_block or asks_size or asks_read or asks_kept or asks_write):
        raise click.UsageError("--lose-contents stands beside --every-block alone.")
    if put_back:
        with watching() as watch:
            sentence = put_back_on(medium, bench, watch, typed_tag=tag)
        show_json({"name": medium.name, "sentence": sentence}) if as_json else say(sentence)
        return
    if pull:
        _pull(medium, bench, tag, as_json=as_json)
        return
    if not (asks_size or asks_read or asks_kept or asks_write or every_block):
        _tell_history(medium, bench, as_json=as_json)
        return
    found: dict[str, Any] = {"name": medium.name, "tag": medium.tag}
    with watching() as watch:
        if asks_size:
            verdict = prove(medium, bench, watch, typed_tag=tag)
            found["size"] = _size_record(verdict, medium.name)
        if every_block:
            judge = give_up_and_prove if lose_contents else prove_every_block
            found["size"] = _size_record(judge(medium, bench, watch, typed_tag=tag), medium.name)
        if asks_write:
            found["write"] = _write_record(write(medium, bench, _layout(medium), watch, typed_tag=tag), medium.name)
        if asks_read:
            found["read"] = _read_record(read(medium, bench, _layout(medium), watch), medium.name)
        if asks_kept:
            likeness, sentence = compare_with_kept(medium, bench, _layout(medium), watch)
            found["kept"] = {"good": likeness.is_same, "sentence": sentence,
                             "differing": [[e.start, e.length] for e in likeness.differing],
                             "unreadable": [[e.start, e.length] for e in likeness.unreadable],
                             "files": _files(likeness.files)}
    if as_json:
        show_json(found)
    else:
        for question in QUESTIONS:
            if question in found:
                say(found[question]["sentence"])
    if any(not found[q]["good"] for q in QUESTIONS if q in found):
        raise SystemExit(1)


def _pull(medium: Medium, bench: Bench, tag: str, *, as_json: bool) -> None:
    with watching() as watch:
        told = pull_step(medium, bench, watch, typed_tag=tag)
    if isinstance(told, str):
        show_json({"name": medium.name, "sentence": told}) if as_json else say(told)
        return
    if as_json:
        show_json({"name": medium.name, "tag": medium.tag, "size": _size_record(told, medium.name)})
    else:
        say(told.sentence(medium.name))
    if told.is_false:
        raise SystemExit(1)


def _tell_history(medium: Medium, bench: Bench, *, as_json: bool) -> None:
    lines = history(medium, bench)
    left = unfinished_on(medium, bench)
    if as_json:
        show_json([{"when": n.when, "question": n.question, "sentence": n.sentence, "good": n.is_good, "rate": n.rate}
                   for n in lines])
        return
    if left is not None:
        say(f"A proof of {medium.name} was interrupted: put back what it left (--put-back --tag {medium.tag}).")
    if not lines:
        say(f"Nothing was proved of {medium.name} yet. Ask with --size or --read.")
    for line in lines:
        say(f"{line.when[:16].replace('T', ' ')}  {line.sentence}")


def _layout(medium: Medium) -> Layout | None:
    """What is on it, where that can be told."""
    try:
        with medium.open_to_look() as blocks:
            return survey(blocks)
    except MediumError:
        return None


def _size_record(verdict: Verdict, name: str) -> dict[str, Any]:
    return {"good": verdict.is_good, "kind": str(verdict.kind), "stage": verdict.stage, "claimed": verdict.size,
            "real": verdict.real, "exact": verdict.is_exact,
            "at_least": verdict.at_least, "lost": [[e.start, e.length] for e in verdict.lost],
            "skipped": [[e.start, e.length] for e in verdict.skipped], "sentence": verdict.sentence(name)}


def _read_record(sound: Soundness, name: str) -> dict[str, Any]:
    return {"good": sound.is_sound, "rate": round(sound.log.rate), "bad": [[e.start, e.length] for e in sound.log.bad],
            "files": _files(sound.hits), "sentence": sound.sentence(name)}


def _write_record(wear: Wear, name: str) -> dict[str, Any]:
    return {"good": wear.is_sound, "writing": round(wear.writes.rate), "reading": round(wear.reads.rate),
            "bad": [[e.start, e.length] for e in wear.writes.bad], "lost": [[e.start, e.length] for e in wear.lost],
            "not_back": list(wear.not_back), "files": _files(wear.hits), "sentence": wear.sentence(name)}


def _files(hits: tuple[Hit, ...]) -> list[dict[str, Any]]:
    return [{"partition": hit.partition, "path": hit.path} for hit in hits]


COMMANDS: dict[str, click.Command] = {"proof": proof}
