"""``oaktag reach``."""

from __future__ import annotations

from collections import Counter
from typing import Any

import click

from oaktag.cli.changes import changing, show_effect, written
from oaktag.cli.context import (
    Context,
    complete,
    emit,
    hint,
    paragraph,
    pass_context,
    progress,
    say,
    table,
)
from oaktag.letters import shown, tame
from oaktag.operations.advice import WORDS


def _number(_: click.Context, __: click.Parameter, value: float) -> float:
    if value != value:
        raise click.BadParameter("nan is no number of seconds")
    return value


#: The same where there are very many places.
KINDS = {
    "": "the points that judge do not agree with the matrix",
    "no-point": "no point on the path",
    "direction": "the last point on the path does not judge this direction",
    "inside": "the last point on the path does not judge inside a segment",
    "source-unknown": "the last point on the path does not know the source's tag",
    "source-wrong": "the last point on the path sees a wrong source tag",
    "destination-unknown": "the last point on the path does not know the destination's tag",
    "destination-wrong": "the last point on the path sees a wrong destination tag",
    "no-cell": "the list of the last point on the path lacks the cell",
    "answer-dropped": "a point on a way back drops the answers",
}
EFFECTS = ("leak", "break", "one-way", "exact")


@click.command("reach")
@click.option("--from", "source", metavar="WHO", shell_complete=complete("end"))
@click.option("--to", "destination", metavar="WHO", shell_complete=complete("end"))
@click.option("--flows", is_flag=True, help="Every row, not the causes alone.")
@click.option("--accepted", is_flag=True, help="The rows that oaktag.yaml accepts.")
@click.option(
    "--by",
    type=click.Choice(["cell", "point", "segment", "endpoint"]),
    help="What is not exact, counted by cell, place, segment or endpoint.",
)
@click.option("--observed", metavar="DIR", help="The network as its nodes report it.")
@click.option("--figure", metavar="FILE", help="Draw the network by site, as PNG or SVG.")
@click.option("--failures", is_flag=True, help="What each single failure would do.")
@click.option("--mend", is_flag=True, help="The cheapest changes after which nothing leaks.")
@click.option("--breaks", is_flag=True, help="With --mend: nothing may break either.")
@click.option(
    "--even-if-breaks", is_flag=True, help="With --mend: what is exact now may break, and is named."
)
@click.option(
    "--seconds", type=click.FloatRange(0, 86_400), callback=_number, default=60.0,
    show_default=True, help="With --mend: when to stop.",
)  # fmt: skip
@changing
@pass_context
def command(
    context: Context,
    source: str | None,
    destination: str | None,
    flows: bool,
    accepted: bool,
    by: str | None,
    observed: str | None,
    figure: str | None,
    failures: bool,
    mend: bool,
    breaks: bool,
    even_if_breaks: bool,
    seconds: float,
    write: bool,
    wait: bool,
    anyway: bool,
    as_json: bool,
) -> int:
    """Do tags reach every point on every path, and what passes or breaks where not?"""
    if mend:
        workspace = context.changing("reach --mend", write=write, wait=wait)
        document = workspace.mend(
            breaks=breaks, even_if_breaks=even_if_breaks, write=write, anyway=anyway,
            seconds=seconds, progress=progress("mending"),
        )  # fmt: skip
        if as_json:
            emit(document)
        else:
            _mended(document, breaks, even_if_breaks, write)
        return 0
    if write or wait or anyway:
        raise click.UsageError("--write, --wait and --anyway go with --mend")
    if failures:
        return _failures(context, as_json)
    folder = None if observed is None else context.unlinked(observed)
    workspace = context.workspace()
    document = workspace.reach(
        source, destination, observed=folder, endpoints=by == "endpoint",
        progress=progress("reaching"),
    )  # fmt: skip
    if figure:
        from oaktag.operations.picture import picture
        from oaktag.report.network_figure import draw_network

        draw_network(picture(workspace.model, document), context.unlinked(figure))
    summary = document["summary"]
    effects = summary["effects"]
    bad = sum(n for effect, n in effects.items() if effect != "exact") + len(summary["cut_off"])
    if as_json:
        emit(document)
        return int(bool(bad))
    for off in summary["cut_off"][:WORST]:
        ends = " and ".join(dict.fromkeys(off["between"]))
        say(f"cut off: no path joins {ends} ({off['flows']:,} flows, e.g. {off['example']})")
    if len(summary["cut_off"]) > WORST:
        say(f"and {len(summary['cut_off']) - WORST:,} more pairs of segments that nothing joins")
    counted = [f"{n:,} {e}" for e in ("exact", *EFFECTS[:3]) if (n := effects.get(e, 0))]
    say(
        f"{sum(effects.values()):,} flows between segments and groups: "
        f"{', '.join(counted) or 'none'}"
    )
    results = summary["results"]
    if results:
        say("   " + ", ".join(f"{results[r]:,} {r}" for r in sorted(results)))
    if summary["accepted"]:
        borne = ", ".join(f"{n:,} {effect}" for effect, n in sorted(summary["accepted"].items()))
        say(f"   accepted in oaktag.yaml: {borne}; --accepted shows them")
    if by == "endpoint":
        say()
        heads = [f"{effect} {word}" for effect in EFFECTS[:3] for word in ("from", "to")]
        table(
            ("endpoint", *heads),
            [tuple(row.values()) for row in document["endpoints"]],
            right=tuple(range(1, 7)),
        )
        say()
    elif by:
        _by([f for f in document["flows"] if not f["accepted"]], by)
    elif accepted and not summary["accepted"]:
        say("nothing is accepted in oaktag.yaml, or nothing that it accepts is there")
    elif flows or accepted:
        _flows([f for f in document["flows"] if f["accepted"] or not accepted])
    elif summary["causes"]:
        _causes(summary["causes"])
    if (flows or by) and len(document["flows"]) < sum(effects.values()):
        say("too many to take each: these are one for each cause; --from and --to narrow it")
    if document["unplaced"]:
        say(f"nobody of these groups is on a segment: {', '.join(document['unplaced'])}")
    if bad and not flows:
        hint("oaktag reach --flows shows each of them; --from and --to narrow it")
    return int(bool(bad))


#: So many causes fit a screen; of more, kinds are shown and so many of the worst.
SCREEN, WORST = 15, 10


def _causes(causes: list[dict[str, Any]]) -> None:
    """What is not exact, by cause; where there are very many, by kind of cause first."""
    say()
    if len(causes) > SCREEN:
        kinds: dict[tuple[str, str], Counter[str]] = {}
        for c in causes:
            last = c["reasons"][-1] if c["reasons"] else {"node": "", "why": ""}
            kind = c["effect"], KINDS[last["why"]]
            kinds.setdefault(kind, Counter())[last["node"] or ""] += c["flows"]
        order = sorted(kinds.items(), key=lambda i: (EFFECTS.index(i[0][0]), -i[1].total(), i[0]))
        table(
            ("effect", "flows", "why", "places"),
            [
                (effect, f"{at.total():,}", why, len(at) if any(at) else "")
                for (effect, why), at in order
            ],
            right=(1, 3),
        )
        say()
        say(f"{len(causes):,} causes; the {WORST} worst:")
    table(
        ("effect", "flows", "why", "for example", "what to do"),
        [
            (
                c["effect"],
                f"{c['flows']:,}",
                _why(c["reasons"], c["watching"]),
                c["example"],
                c["advice"],
            )
            for c in causes[: SCREEN if len(causes) <= SCREEN else WORST]
        ],
        right=(1,),
        wrap=(2, 3, 4),
        spaced=True,
    )
    say()


def _by(rows: list[dict[str, Any]], what: str) -> None:
    """What leaks and breaks, counted by cell, by the place where it goes wrong, or by segment."""
    counted: dict[tuple[str, ...], Counter[str]] = {}
    for row in rows:
        if row["effect"] == "exact":
            continue
        if what == "cell":
            key: tuple[str, ...] = row["source"]["group"], row["destination"]["group"]
        elif what == "segment":
            key = row["source"]["segment"], row["destination"]["segment"]
        else:
            told = row["reasons"] or row["amiss"]
            if row["effect"] == "one-way":
                told = [r for r in row["amiss"] if r["why"] == "answer-dropped"]
            places = [r["node"] for r in told if r["node"]]
            key = (places[-1] if places else row["at"] or "no point on the path",)
        counted.setdefault(key, Counter())[row["effect"]] += 1
    heads = {"cell": ("from", "to"), "segment": ("from", "to"), "point": ("at",)}[what]
    order = sorted(counted.items(), key=lambda i: (*(-i[1][e] for e in EFFECTS[:3]), i[0]))
    say()
    table(
        (*heads, *EFFECTS[:3]),
        [(*k, *(c[e] for e in EFFECTS[:3])) for k, c in order],
        right=tuple(range(len(heads), len(heads) + 3)),
    )
    say()


def _failures(context: Context, as_json: bool) -> int:
    document = context.workspace().failures(progress("failing"))
    columns = ("cut_off", "leaks", "breaks", "one_way")
    worse = [f for f in document["failures"] if any(f[c] for c in columns)]
    if as_json:
        emit(document)
        return 0
    if worse:
        table(
            ("lost", "", "cut off", "leak", "break", "one-way", "for example"),
            [
                (f["kind"], f["name"], *(f[c] or "" for c in columns), f["example"])
                for f in worse[:WORST]
            ],
            right=(2, 3, 4, 5),
            wrap=(1, 6),
        )
    tried = len(document["failures"])
    harm = f"{len(worse)} do harm: they cut off what is joined,\n"
    harm += "or make what is exact leak, break or go one-way"
    say(f"{tried} single failures tried; {harm if worse else 'none does harm'}")
    if len(worse) > WORST:
        say(f"the {WORST} worst are shown; --json has all {len(worse)}")
    if document["opens_most"]:
        point = document["opens_most"]
        say(f"the loss of the point {point['name']} opens most: {point['leaks']} flows would leak")
    return 0


def _mended(document: dict[str, Any], breaks: bool, even_if_breaks: bool, write: bool) -> None:
    goal = "nothing leaks or breaks" if breaks else "nothing leaks"
    if not even_if_breaks:
        goal += " and nothing exact fares worse"
    besides = " besides what nothing can mend" if document["hopeless"] else ""
    if document["changes"] is None:
        if document["proved"]:
            say(f"no set of the {document['choices']} possible changes comes to where {goal}")
        else:
            say(f"not found in time: {document['tried']} networks tried; it costs at least "
                f"{document['bound']:g}; --seconds gives it longer")  # fmt: skip
    elif not document["changes"]:
        say(f"{goal} already{besides}")
    elif document["proved"]:
        click.echo(tame(shown(document["diff"])), nl=False)
        show_effect(document)
        written(document)
        cost = f"cost {document['cost']}, proved to be the cheapest after which {goal}{besides}"
        paragraph(cost, "    ", first="")
        say(f"{document['tried']} networks tried")
    else:
        click.echo(tame(shown(document["diff"])), nl=False)
        show_effect(document)
        written(document)
        left = len(document["left"])
        say(f"the best so far, cost {document['cost']}: {left} rows stay wrong; "
            f"the whole costs at least {document['bound']:g}; more --seconds may do")  # fmt: skip
    for row in document["broken"][:5]:
        paragraph(f"exact now, and worse then: {row}", "       ", first="   ")
    if len(document["broken"]) > 5:
        say(f"   and {len(document['broken']) - 5} more that fare worse; --json has all")
    for row in document["hopeless"][:5]:
        paragraph(f"nothing that is possible mends {row}", "       ", first="   ")
    if len(document["hopeless"]) > 5:
        say(f"   and {len(document['hopeless']) - 5} more like these; --json has all")
    if document["changes"] and not document["written"]:
        say("can: in network.yaml names what else could be switched on")


def _why(reasons: list[dict[str, Any]], watching: str | None = None) -> str:
    if watching:
        return f"{watching} only watches (mode: observe)"
    if not reasons:
        return "the points that judge do not agree with the matrix"
    return "; ".join(WORDS[r["why"]].format(node=r["node"]) for r in reasons)


def _flows(rows: list[dict[str, Any]]) -> None:
    say()
    table(
        ("effect", "source", "destination", "path", "result", "packets"),
        [
            (
                r["effect"],
                f"{r['source']['group']} in {r['source']['segment']}",
                f"{r['destination']['group']} in {r['destination']['segment']}",
                " ".join(r["path"]),
                f"{r['result']} at {r['at']}"
                if r["at"]
                else f"{r['result']}: {_why(r['reasons'])}",
                r["packets_text"].partition(" ")[2]
                if ";" not in r["packets_text"]
                else r["packets_text"],
            )
            for r in sorted(rows, key=lambda r: EFFECTS.index(r["effect"]))
        ],
        wrap=(1, 2, 3, 4, 5),
    )
