"""What is needed to look for a defect of ours: where packets did otherwise than we say.

One folder holds what we say of the probe (``decide``, ``trace``, ``reach``), the plan of the lab,
the lists as loaded and as the kernel holds them, what nodes know, the counters, and the frames that
the probe makes on the nodes of its way when it is sent once more.
"""

from __future__ import annotations

import json
import re
from base64 import b64decode
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path

from oaktag.core.service_text import packet_text, regions_text
from oaktag.lab.capturing import pcap
from oaktag.lab.handle import Lab
from oaktag.lab.plan import LabHost
from oaktag.operations.json_parts import Document
from oaktag.operations.lab_plan import Beings, plan_of
from oaktag.operations.lab_probe import Outcome, Telling
from oaktag.operations.lab_trials import Trials
from oaktag.operations.model import Model
from oaktag.workspace.textfile import write_bytes, write_text

#: Seconds for which frames are captured; and so many probes are sent again.
LISTEN, MOST = 2.5, 20


def changed_by_hand(lab: Lab) -> list[str]:
    """The points whose list in the kernel is not the one that was loaded there."""
    return list(lab.ask("touched")["points"])


def pack(
    lab: Lab, model: Model, telling: Telling, wrong: Sequence[Outcome], place: Path,
    guests: Mapping[str, LabHost],
) -> Path:  # fmt: skip
    """Write the folder.

    Args:
        lab: the lab.
        model: the workspace that it is made as.
        telling: what is said of its probes.
        wrong: probes that fared otherwise than told.
        place: the folder in which it is made.
        guests: who is in the lab for these probes alone.
    """
    moment = datetime.now(UTC).strftime("%Y%m%dT%H%M%S")
    folder = place / f"disagreement-{moment}"
    some = list(wrong)[:MOST]
    state = lab.ask("state")
    texts = {
        "probes.json": [_said(model, telling, o) for o in some],
        "known.json": state["known"],
        "counters.json": lab.ask("counters")["cells"],
        "plan.json": asdict(plan_of(model, Beings(model))),
        "guests.json": {name: asdict(host) for name, host in guests.items()},
    }
    for name, held in texts.items():
        write_text(folder / name, json.dumps(held, indent=1, ensure_ascii=False) + "\n")
    for point, text in state["texts"].items():
        write_text(folder / f"{point}.kernel.nft", text)
        write_text(folder / f"{point}.loaded.nft", state["loaded"][point])
    for node, data in _frames(lab, telling, Trials([o.trial for o in some], [], dict(guests))):
        write_bytes(folder / f"{re.sub(r'[^A-Za-z0-9._-]', '_', node)}.pcap", data)
    return folder


def _said(model: Model, telling: Telling, outcome: Outcome) -> Document:
    """All that we say of one probe."""
    trial = outcome.trial
    a, b = trial.source, trial.destination
    out = telling.way(a, b)
    rows = [
        {
            "path": list(flow.path.nodes) if flow.path else [], "result": flow.result,
            "effect": flow.effect,
            **{
                effect: {str(f): regions_text(model.atoms.regions(m)) for f, m in held.items()}
                for effect, held in (("leaks", flow.leaks), ("breaks", flow.breaks))
            },
        }
        for flow in model.state.flows([a], [b])
    ]  # fmt: skip
    return {
        **outcome.row(model),
        "packet": packet_text(*trial.packet),
        "decide": "allow" if trial.meant else "deny",
        "trace": {
            "path": list(out.nodes) if out else [], "fares": outcome.told.fares,
            "at": outcome.told.at,
            "judged": [[point, *sight] for point, sight in telling.judged(trial)],
        },
        "reach": rows,
        "reach_agrees": outcome.reached,
    }  # fmt: skip


def _frames(lab: Lab, telling: Telling, wrong: Trials) -> Iterator[tuple[str, bytes]]:
    """The frames on the nodes of their ways, while probes are sent once more."""
    nodes: dict[str, None] = {}
    for trial in wrong.sent:
        ends = trial.source, trial.destination
        for way in (telling.way(*ends), telling.way(*ends[::-1])):
            nodes.update(dict.fromkeys(way.nodes if way else ()))

    def listen(node: str) -> bytes:
        said = lab.ask("capture", node=node, seconds=LISTEN, count=10_000, tag=None)
        return pcap([(moment, b64decode(data)) for moment, *_, data in said["frames"]])

    with ThreadPoolExecutor(max(len(nodes), 1)) as pool:
        waiting = {node: pool.submit(listen, node) for node in nodes}
        lab.ask("follow", **wrong.request())
        yield from ((node, future.result()) for node, future in waiting.items())
