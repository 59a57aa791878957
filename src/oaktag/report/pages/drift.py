"""What nodes report against what is intended."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count

#: So many differences of one kind are shown.
SHOWN = 8


def show(page: Page, d: Row, *, folder: str = "observed") -> None:
    """Each drift, the worst first."""
    for row in d["drift"]:
        kinds = ("leaks", "leak"), ("breaks", "break"), ("one_way", "lose their answers")
        done = [f"{row[key]} {word}" for key, word in kinds if row[key]]
        most = "" if row["known"] else "at worst "
        said = f"{most}{', '.join(done)} of the flows that are meant to be exact"
        page.say(
            f"{row['node']}, {row['kind']}: {said if done else 'no flow fares otherwise by it'}"
        )
        if row["example"]:
            page.say(f"   e.g. {row['example']}")
        page.table(
            ("   what", "about", "meant", "held"),
            [(f"   {d['what']}", d["about"], d["meant"], d["held"])
             for d in row["differences"][:SHOWN]],
            wrap=(3,),
        )  # fmt: skip
        if len(row["differences"]) > SHOWN:
            page.say(f"   and {len(row['differences']) - SHOWN} more; --json has all")
        page.say()
    if not d["drift"]:
        page.say("all that is reported is as intended")
    else:
        page.say(f"{count(len(d['drift']), 'drift')} found")
        page.hint(f"oaktag reach --observed {folder} shows the network as it is reported")
    if d["silent"]:
        page.say(f"no report from {', '.join(d['silent'][:8])}"
            + (" …" if len(d["silent"]) > 8 else ""))  # fmt: skip
