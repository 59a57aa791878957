"""How a list stands in a JSON file (RFC 8259): objects that are opened have a key a line, lists of
objects or lists in them an element a line, so that two versions can be compared line by line. It
knows nothing of what a list says.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from oaktag.errors import UnreadableList

#: The way to a value: keys and numbers of elements.
Path = tuple[str | int, ...]
Opened = Callable[[Path], bool]


def only_the_whole(path: Path) -> bool:
    """Nothing but the whole document is opened."""
    return not path


def text_of(document: Mapping[str, Any], opened: Opened = only_the_whole) -> str:
    """The document as text."""
    return "".join(f"{line}\n" for line, _ in placed(document, opened))


def placed(
    document: Mapping[str, Any], opened: Opened = only_the_whole
) -> Iterator[tuple[str, Path | None]]:
    """Its lines, each with the way to what begins there."""
    return _lines((), "", document, "", opened)


def _lines(
    path: Path, name: str, value: Any, comma: str, opened: Opened
) -> Iterator[tuple[str, Path | None]]:
    indent = " " * len(path)
    if isinstance(value, dict) and opened(path):
        yield f"{indent}{name}{{", path
        for number, (key, held) in enumerate(value.items(), 1):
            more = "," if number < len(value) else ""
            yield from _lines((*path, key), f"{json.dumps(key)}: ", held, more, opened)
        yield f"{indent}}}{comma}", None
    elif isinstance(value, list) and value and isinstance(value[0], (dict, list)):
        yield f"{indent}{name}[", path
        for number, held in enumerate(value):
            more = "," if number < len(value) - 1 else ""
            if opened((*path, number)):
                yield from _lines((*path, number), "", held, more, opened)
            else:
                yield f"{indent} {json.dumps(held)}{more}", (*path, number)
        yield f"{indent}]{comma}", None
    else:
        yield f"{indent}{name}{json.dumps(value)}{comma}", path


def parsed(text: str, opened: Opened = only_the_whole) -> tuple[dict[str, Any], dict[Path, int]]:
    """A document that stands as it is written here, and the lines of what is in it.

    Raises:
        UnreadableList: it is no JSON, no object, or stands otherwise; with its line.
    """
    try:
        document = json.loads(text)
        lines = list(placed(document, opened)) if isinstance(document, dict) else []
    except json.JSONDecodeError as error:
        raise UnreadableList(error.lineno, f"this is not JSON: {error.msg}") from None
    except (RecursionError, ValueError):  # ValueError: a number of thousands of digits
        raise UnreadableList(1, "this is nested too deep, or has a number too long") from None
    if not isinstance(document, dict):
        raise UnreadableList(1, "an access list is an object")
    for number, (held, (meant, _)) in enumerate(zip(text.split("\n"), lines, strict=False), 1):
        if held != meant:
            raise UnreadableList(number, f"{held.strip()!r} is not as it is written")
    if text.count("\n") != len(lines) or not text.endswith("\n"):
        raise UnreadableList(min(text.count("\n"), len(lines)) + 1, "the list ends otherwise")
    return document, {path: n for n, (_, path) in enumerate(lines, 1) if path is not None}
