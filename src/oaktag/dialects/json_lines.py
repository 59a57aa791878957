"""How a list stands in a JSON file (RFC 8259): one key of the whole a line, and of what is long one
element a line, so that two versions can be compared line by line. It knows nothing of what it says.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

Document = Mapping[str, Any]


def text_of(document: Document) -> str:
    """The document as text."""
    return "".join(f"{line}\n" for line, _ in placed(document))


def placed(document: Document) -> Iterator[tuple[str, tuple[str, int] | None]]:
    """Its lines, each with the key that it is of and the number of its element (-1: the whole)."""
    yield "{", None
    for number, (key, value) in enumerate(document.items(), 1):
        comma = "," if number < len(document) else ""
        name = json.dumps(key)
        if isinstance(value, list) and value and isinstance(value[0], (dict, list)):
            yield f" {name}: [", (key, -1)
            for place, element in enumerate(value, 1):
                more = "," if place < len(value) else ""
                yield f"  {json.dumps(element)}{more}", (key, place - 1)
            yield f" ]{comma}", None
        else:
            yield f" {name}: {json.dumps(value)}{comma}", (key, -1)
    yield "}", None
