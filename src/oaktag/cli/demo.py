"""``oaktag demo``: the sample written out, and the whole job done on it, command by command."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

import click

from oaktag.cli.context import Context, as_json, draw, emit, pass_context, say
from oaktag.demo.sample import refresh_sample
from oaktag.demo.walk import DOWN_STEPS, LAB_STEPS, MENDED_STEPS, STEPS, Document, Step, wrong
from oaktag.operations.result import Result
from oaktag.operations.workspace import Workspace
from oaktag.report.page import Page


@click.command("demo")
@click.argument("folder", metavar="[DIR]", default="quillmere")
@click.option("--no-lab", is_flag=True, help="Send no packets.")
@click.option("--keep-lab", is_flag=True, help="Leave the lab of the mended sample up, to go on.")
@as_json
@pass_context
def command(context: Context, folder: str, no_lab: bool, keep_lab: bool, as_json: bool) -> int:
    """Write the sample into DIR and walk through the whole job on it.

    DIR-mended gets the mended version, on which nothing is found.
    """
    start = time.monotonic()
    path, mended = context.path(folder), context.path(f"{folder}-mended")
    refresh_sample(path)
    refresh_sample(mended, mended=True)
    if as_json:
        return _as_json(folder, path, with_lab=not no_lab and _lacking() is None)
    told: dict[str, Result] = {}
    say(f"The county libraries of Quillmere are in {folder}/ now. This is the job, step by step.")
    lab = None if no_lab else _lacking()
    with_lab = not no_lab and lab is None
    steps = STEPS + (LAB_STEPS if with_lab else ())
    _walk(folder, path, steps, told)
    if lab is not None:
        say(f"\n{lab} So no packets are sent here.")
    if with_lab:
        _walk(folder, path, DOWN_STEPS)
    found = wrong({name: result.as_json() for name, result in told.items()})
    say("\n== What is wrong in the sample ".ljust(101, "="))
    page = Page()
    for name, sentence in found:
        page.paragraph(sentence, " " * 18, first=f"oaktag {name:<10} ")
    draw(page, path)
    say("\n== The same, mended ".ljust(101, "="))
    last = LAB_STEPS if keep_lab else LAB_STEPS + DOWN_STEPS
    _walk(f"{folder}-mended", mended, MENDED_STEPS + (last if with_lab else ()))
    say(f"\nDone in {time.monotonic() - start:.1f} s.")
    if with_lab and keep_lab:
        say(f"The lab of {folder}-mended is up: change a file there, then oaktag lab apply and")
        say("lab probe; lab watch shows who is denied, lab down ends it. docs/lab.md says more.")
    say(f"→ mend {folder}/ yourself: diff -r {folder} {folder}-mended shows how we did")
    return 0


def _as_json(folder: str, path: Path, *, with_lab: bool) -> int:
    """What is wrong in the sample, and the documents that say so."""
    workspace = Workspace.load(path)
    results = [workspace.check(), workspace.review(), workspace.expect(), workspace.reach()]
    if with_lab:
        workspace.lab_up()
        try:
            results.append(workspace.lab_probe())
        finally:
            workspace.lab_down()
    documents: dict[str, Document] = {r["command"]: r.as_json() for r in results}
    found = [{"command": name, "message": sentence} for name, sentence in wrong(documents)]
    emit(
        {
            "command": "demo", "schema": 1, "folder": folder, "lab": with_lab, "found": found,
            "documents": documents,
        }
    )  # fmt: skip
    return 0


def _lacking() -> str | None:
    from oaktag.lab.namespaces import missing

    return missing()


def _walk(
    shown: str, path: Path, steps: Sequence[Step], told: dict[str, Result] | None = None
) -> None:
    """Run the commands of some steps, and keep what they have found."""
    from oaktag.cli.app import app

    for step in steps:
        words = " ".join(step.command)
        say(f"\n-- {step.why} ".ljust(101, "-"))
        say(f"$ oaktag -C {shown} {words}")
        app.main(
            ["-C", str(path), *step.command], prog_name="oaktag", standalone_mode=False, obj=told
        )
