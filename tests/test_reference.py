"""The reference of the files: every key says what it means, on the page, in the terminal, to editors;
and the readers know the same keys."""

from __future__ import annotations

import importlib.util
from collections.abc import Callable
from pathlib import Path

import jsonschema
import yaml

from conftest import Ran
from oaktag.operations.reference import FILES, keys
from test_commands import _schema

Run = Callable[..., Ran]
DOCS = Path(__file__).parents[1] / "docs"


def test_every_key_says_what_it_means() -> None:
    every = list(keys())
    assert {k.file for k in every} == set(FILES) and len(every) > 120
    for key in every:
        assert key.text.endswith("."), key
        inner = ".NAME." in key.path and key.name in (">=", ">", "<=", "<", "within")
        assert key.example or inner, key
        assert (
            key.required
            or key.default
            or inner
            or key.name in ("allow", "deny", "pass", "traits", "entries")
        ), key
        yaml.compose(f"{{x: {key.example}}}" if key.example[:1] in "[{" else f"x: {key.example}")


def test_the_page_is_of_these_schemas() -> None:
    spec = importlib.util.spec_from_file_location("make_reference", DOCS / "make_reference.py")
    assert spec is not None and spec.loader is not None
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    assert (DOCS / "files.md").read_text(encoding="utf-8") == made.page(), (
        "python docs/make_reference.py writes it"
    )


def test_help_tells_keys_files_and_commands(oaktag: Run, tmp_path: Path) -> None:
    """Also where no workspace is."""
    for key in keys():
        ran = oaktag("-C", tmp_path, "help", f"{key.file}:{key.path}", "--json")
        jsonschema.validate(ran.json, _schema("help"))
        assert key.path in [k["path"] for k in ran.json["keys"]]
    said = oaktag("help", "if_differ").out
    assert "network.yaml: nodes[].point.if_differ" in said and "one of frame, bindings" in said
    assert all(f"\n{file}\n" in oaktag("help").out for file in FILES)
    assert "Usage: oaktag decide" in oaktag("help", "decide").out
    wrong = oaktag("help", "capcity")
    assert wrong.status == 2 and "perhaps capacity" in wrong.err
