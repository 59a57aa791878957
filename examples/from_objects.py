"""A workspace of plain objects, without any file: who is who, the matrix, the network, and reach.

python examples/from_objects.py
"""

from __future__ import annotations

import oaktag


def main() -> None:
    mill = oaktag.Workspace.from_objects(
        groups=[{"id": "office", "tag": 110}, {"id": "scales", "tag": 120}],
        permissions={"read-weights": [{"allow": ["5020/tcp", "icmp/echo-request"]}]},
        lines=[("office", "scales", "read-weights")],
        endpoints=[
            {"id": "millers-pc", "kind": "server", "address": "10.50.1.11", "room": "office"},
            {"id": "scale-1", "kind": "server", "address": "10.50.2.21", "room": "weighing"},
        ],
        rules=[
            {"give": "office", "when": {"room": "office"}},
            {"give": "scales", "when": {"room": "weighing"}},
        ],
        network={
            "nodes": [{"node": "yard"}, {"node": "gate", "point": {}}],
            "segments": [
                {"segment": "house", "node": "yard", "prefixes": ["10.50.1.0/24"]},
                {"segment": "floor", "node": "gate", "prefixes": ["10.50.2.0/24"]},
            ],
            "links": [{"between": ["yard", "gate"]}],
            "feeds": [{"from": "registry", "to": "gate"}],
        },
    )
    print(mill.matrix())
    print(mill.decide("millers-pc", "scale-1", "5020/tcp"))
    print(mill.reach())


if __name__ == "__main__":
    main()
