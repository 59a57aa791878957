"""An engineer's own form of lists: a template, what such points can do, how it is read back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from oaktag.core.lines import Action
from oaktag.located import Location


@dataclass(frozen=True, slots=True)
class Template:
    """A form of lists.

    Attributes:
        name: its file.
        suffix: what the files of lists end in.
        text: the template (Jinja2), which gets the list as a document.
        able: what its points can do: fields of ``Abilities``, with their values.
        read: kind of line → patterns, with named groups, by which lines are read back; none:
            lists of this form cannot be read back, and are not proved.
        words: what words of the text mean.
        implied: what is done with packets that no entry is for.
        location: of the template's text.
    """

    name: str
    suffix: str
    text: str
    able: tuple[tuple[str, Any], ...] = ()
    read: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    words: Mapping[str, str] = field(default_factory=dict)
    implied: Action | None = None
    location: Location = Location("")
