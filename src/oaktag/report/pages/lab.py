"""The lab: what is up, what was changed in it, what packets did."""

from __future__ import annotations

from collections.abc import Iterable

from oaktag.report.page import Page
from oaktag.report.words import Row, count

#: So many feeds are told one by one; of more those that have brought nothing. So many sides, too.
FEW = 6


def show(page: Page, d: Row, *, everything: bool = False) -> None:
    """What is up, or changed, or written, or taken away; of probes the odd ones, or all."""
    match d["command"]:
        case "lab up":
            _up(page, d)
        case "lab apply" | "lab break" | "lab heal":
            _changed(page, d)
        case "lab log-in" | "lab log-off":
            _access(page, d)
        case "lab probe":
            _probes(page, d, everything=everything)
        case "lab capture":
            _captured(page, d, everything=everything)
        case "lab watch":
            _counted(page, d)
        case "lab state":
            page.say(f"written: {count(len(d['files']), 'report')} in {d['folder']}")
            page.hint(f"oaktag drift {d['folder']} holds them against what is intended")
        case _:
            page.say("down" if d["was_up"] else "no lab was up")


def _up(page: Page, d: Row) -> None:
    page.say(
        f"up: {count(d['nodes'], 'node')}, {count(d['hosts'], 'host')}, "
        f"{count(d['links'], 'link')} (tags in frames on {d['tunnels']}); "
        f"it ends by itself after {d['hours']:g} h"
    )
    if "part" in d:
        _part(page, d["part"])
    few = d["feeds"] if len(d["feeds"]) <= FEW else [f for f in d["feeds"] if not f["bindings"]]
    if few != d["feeds"]:
        total = sum(feed["bindings"] for feed in d["feeds"])
        page.say(f"{len(d['feeds'])} feeds have brought {count(total, 'binding')}")
    for feed in few:
        page.say(f"feed {feed['feed']}: {count(feed['bindings'], 'binding')} arrived")
    sent = sum(d["baseline"].values())
    fares = ", ".join(f"{n:,} {_plural(how, n)}" for how, n in sorted(d["baseline"].items()))
    page.say(
        f"before any list, of {count(sent, 'probe')}: {fares or 'nobody is there to send one'}"
    )
    if d["lists"]:
        page.say(f"lists loaded: {', '.join(d['points']) or 'no point holds one'}")
        page.hint("oaktag lab probe sends them again, now through the lists")
    else:
        page.say("no list is loaded")
        page.hint("oaktag lab apply loads the lists")


def _part(page: Page, part: Row) -> None:
    """What of the network is there, what stands for the rest, and what is not as there."""
    page.say(f"a part of the network: {', '.join(part['nodes'])}")
    for side in part["around"][:FEW]:
        others = [n for n in side["stands_for"] if n != side["node"]]
        page.say(f"{side['node']} stands for its side: also for {_some(others)}")
    if len(part["around"]) > FEW:
        page.say(f"and {len(part['around']) - FEW} more nodes stand for theirs")
    if part["left_out"]:
        page.say(f"not there, so that what they alone deny passes: {_some(part['left_out'])}")
    for row in part["otherwise"]:
        page.say(
            f"{row['node']} knows {count(row['bindings'], 'binding')} otherwise than in the whole "
            "network"
        )


def _access(page: Page, d: Row) -> None:
    """What was answered to a node, what is known then, and what has changed."""
    for s in d["sessions"]:
        at = f"{d['endpoint']} at {s['node']}, {s['address']} on {s['segment']}"
        if not s["accepted"]:
            page.say(f"{at}: rejected")
            continue
        if d["command"] == "lab log-in":
            group = s["group"] or "no group"
            told = f", tag {s['tag']}" if s["tag"] is not None else ""
            page.say(f"{at}: accepted as {group}{told}")
        else:
            page.say(f"{at}: logged off")
        page.say(f"   accounting {'acknowledged' if s['acknowledged'] else 'not acknowledged'}")
        nodes = ", ".join(f"{k['node']} ({k['tag']})" for k in s["known"])
        page.paragraph(f"its tag is known at {nodes or 'no node'}", "   ", first="   ")
    _came(page, d)
    if d["ended"]:
        page.say(f"ended: {count(d['ended'], 'flow')} that a list now denies")
    if d["command"] == "lab log-in":
        page.hint(f"oaktag lab probe {d['endpoint']} DST [SERVICE] sends packets")


def _plural(how: str, number: int) -> str:
    """How a probe fares, said of several."""
    if number == 1:
        return how
    words = {"arrives": "arrive", "is": "are", "does": "do"}
    return " ".join(
        words.get(w.rstrip(","), w.rstrip(",")) + "," * w.endswith(",") for w in how.split()
    )


# -- what is seen --------------------------------------------------------------------------------


def flow_line(event: Row) -> str:
    """One flow that was opened, in a line."""
    ends = [event[end] for end in ("source", "destination")]
    both = [f"{e['group']} ({e['tag']}) {e['endpoint'] or e['address']}" for e in ends]
    line = event["line"]
    by = f"{line['file']}:{line['line']}" if line else "the default"
    entry = f" {event['entry']}" if event["entry"] else ""
    moment = event["time"][11:23]
    told = (
        f"{moment} {event['point']} {event['verdict']}: {both[0]} → {both[1]}, "
        f"{event['service']}, by {by}{entry}"
    )
    other = event["would_by"]
    if event["verdict"] == "denied" and other is not None:
        line = other["line"]
        place = f"{line['file']}:{line['line']}" if line else "the default"
        told += f"; if observed lines were enforced, allowed by {place}"
    return told


def _captured(page: Page, d: Row, *, everything: bool) -> None:
    if everything and d["frames"]:
        page.table(
            ("time", "link", "", "tag", "from", "to", "carries"),
            [
                (
                    f["time"][11:23], f["link"], f["direction"], _tag(f), f["source"],
                    f["destination"], f["service"],
                )
                for f in d["frames"]
            ],
            wrap=(1, 6),
        )  # fmt: skip
    elif d["tags"]:
        page.table(
            ("link", "", "tag", "frames"),
            [(t["link"], t["direction"], _tag(t), str(t["frames"])) for t in d["tags"]],
            wrap=(0,),
        )
    page.say(f"{count(len(d['frames']), 'frame')} on the links of {d['node']}")
    if not d["frames"]:
        page.hint("oaktag lab probe, in another terminal, sends some")


def _tag(row: Row) -> str:
    return f"{row['tag']} {row['group']}" if row["tag"] else "none"


def _counted(page: Page, d: Row) -> None:
    if d["counters"]:
        page.table(
            ("point", "from", "to", "count", "of"),
            [
                (c["point"], c["source"], c["destination"], c["count"], c["of"])
                for c in d["counters"]
            ],
            wrap=(0,),
            right=(3,),
        )
    else:
        page.say("no cell has counted a flow")
    if d["lines"]:
        page.table(
            ("point", "line", "permission", "verdict", "flows"),
            [
                (
                    c["point"],
                    f"{c['line']['file']}:{c['line']['line']}" if c["line"] else "the default",
                    c["permission"] or "", c["verdict"], c["flows"],
                )
                for c in d["lines"]
            ],
            wrap=(0, 1), right=(4,),
        )  # fmt: skip


# -- what was changed ----------------------------------------------------------------------------


def _came(page: Page, d: Row) -> None:
    """What came, went or is another; who knows otherwise."""
    for thing in d["things"]:
        if thing["what"] != "changed" or thing["kind"] not in ("node", "point"):
            page.say(f"{thing['kind']} {thing['name']}: {_WHAT[thing['what']]}")
    if routed := [t["name"] for t in d["things"] if (t["kind"], t["what"]) == ("node", "changed")]:
        page.say(f"other routes at: {_some(routed)}")
    for row in d["tables"]:
        told = [f"{count(row[word], 'binding')} {word}" for word in ("come", "gone") if row[word]]
        page.say(f"{row['node']} knows otherwise: {', '.join(told)}")


def _changed(page: Page, d: Row) -> None:
    _came(page, d)
    for cell in d["cells"]:
        for word, text in (("opens", cell["opened_text"]), ("closes", cell["closed_text"])):
            if text:
                page.say(f"{cell['source']} → {cell['destination']} {word} {text}")
    for row in d["points"]:
        rules = "other rules" if row["entries"] or row["judges"] else "no rule changed"
        if row["was"] and row["is"]:
            tables = f", {count(len(row['bindings']), 'range')} of addresses bound otherwise"
            page.say(f"{row['point']}: {rules}{tables if row['bindings'] else ''}")
    for row in d["endpoints"]:
        page.say(
            f"{row['endpoint']}: was in {row['was'] or 'no group'}, is in {row['is'] or 'no group'}"
        )
    if d["ended"]:
        page.say(f"ended: {count(d['ended'], 'flow')} that a list now denies")
    if d["restored"]:
        names = _some(d["restored"])
        page.say(f"loaded again, for somebody had changed what the kernel held: {names}")
    if not (d["things"] or d["cells"] or d["endpoints"] or d["restored"]):
        page.say("the lab is as the folder is: nothing to do")
    for row in d["broken"]:
        page.say(f"broken: {row['kind']} {row['name']}")
    page.hint("oaktag lab probe tries it")


_WHAT = {"come": "is up", "gone": "is gone", "changed": "is changed"}


def _some(names: Iterable[str], most: int = 8) -> str:
    every = list(names)
    left = f" and {len(every) - most} more" if len(every) > most else ""
    return ", ".join(every[:most]) + left


# -- probes --------------------------------------------------------------------------------------


def _probes(page: Page, d: Row, *, everything: bool) -> None:
    if d["moved_on"]:
        page.say(
            f"the folder has moved on since the lab was brought up to date ({_some(d['moved_on'])}); "
            "this is what the lab holds; oaktag lab apply brings it up to date"
        )
    if not d["lists"]:
        page.say("no list is loaded: this is how packets fare without any")
    for row in d["broken"]:
        page.say(f"broken: {row['kind']} {row['name']}")
    fine = ("as meant", "no list yet", "accepted")
    odd = [p for p in d["probes"] if p["verdict"] not in fine or not p["agrees"]]
    rows = d["probes"] if everything else _first(odd)
    if rows:
        then = "against" in d
        page.table(
            ("probe", "from", "to", "meant", "fares", *(("then",) if then else ()), "verdict"),
            [
                (
                    _what(p),
                    f"{p['source']['group']}\n{p['source']['address']}",
                    f"{p['destination']['group']}\n{p['destination']['address']}",
                    p["meant"],
                    p["fares"] + (f" (at {p['lost_at']})" if p["lost_at"] else ""),
                    *((p["then"],) if then else ()),
                    p["verdict"] + ("" if p["agrees"] else f"; told: {p['told']}"),
                )
                for p in rows
            ],
            wrap=(1, 2, 4, 5, 6) if then else (1, 2, 4, 5),
        )
    if len(odd) > len(rows):
        page.say(f"and {len(odd) - len(rows)} more like these; --all shows every probe")
    words = {} if d["lists"] else {"no list yet": "that a list will deny"}
    counts = ", ".join(f"{n:,} {words.get(v, v)}" for v, n in sorted(d["summary"].items()))
    page.say(f"{count(len(d['probes']), 'probe')}: {counts or 'nobody is there to send one'}")
    if "against" in d:
        page.say("then: " + ", ".join(f"{n:,} {word}" for word, n in sorted(d["against"].items())))
    for row in d["counters"]:
        agree = "agree" if row["agree"] else "DO NOT AGREE"
        page.say(f"{row['point']}: {row['packets']} new flows counted by cell; counters {agree}")
        for cell in row["differ"]:
            ends = f"{cell['source']} → {cell['destination']}"
            page.say(f"   {ends}: {cell['expected']} sent, {cell['counted']} counted")
    for row in d["not_probed"]:
        page.say(f"not probed: {row['for']}: {row['reason']}")
    wrong = [p for p in d["probes"] if not p["agrees"]]
    if d["touched"]:
        page.say(
            f"{count(len(wrong), 'probe')} fared otherwise than we say, for the list that the kernel "
            f"holds is not the one that was loaded: {_some(d['touched'])}; oaktag lab up loads it anew"
        )
    elif wrong:
        page.say(
            f"{count(len(wrong), 'probe')} fared otherwise than we say: that is a defect of ours; "
            f"what is needed to find it is in {d['packed']}"
        )
    elif odd:
        page.hint("oaktag reach says where a tag is lost, and what to do")


def _what(probe: Row) -> str:
    told = f"{probe['protocol']} {probe['port'] or 'echo'}"
    return f"{told} from {probe['source_port']}" if probe["source_port"] else told


def _first(probes: list[Row], most: int = 5) -> list[Row]:
    """The first few of each verdict."""
    seen: dict[str, int] = {}
    kept = []
    for probe in probes:
        seen[probe["verdict"]] = seen.get(probe["verdict"], 0) + 1
        if seen[probe["verdict"]] <= most:
            kept.append(probe)
    return kept
