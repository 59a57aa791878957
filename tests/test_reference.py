"""The reference of the files: every key says what it means, on the page, in the terminal, to editors;
and the readers know the same keys."""

from __future__ import annotations

import importlib.util
import re
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import jsonschema
import yaml

from conftest import Ran
from oaktag.cli.app import COMMANDS
from oaktag.findings import CODES
from oaktag.operations.reference import FILES, keys
from oaktag.operations.topics import answers, words
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


def test_the_pages_are_of_this_code() -> None:
    """Files, commands, codes, fields, the Python interface: all as they are now."""
    spec = importlib.util.spec_from_file_location("make_reference", DOCS / "make_reference.py")
    assert spec is not None and spec.loader is not None
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    assert len(made.PAGES) == 5
    for file, page in made.PAGES.items():
        told = f"{file}: python docs/make_reference.py writes it"
        assert (DOCS / file).read_text(encoding="utf-8") == page(), told
    commands = (DOCS / "reference/commands.md").read_text(encoding="utf-8")
    assert all(f"\n## oaktag {name}\n" in commands for name in COMMANDS)


def test_every_code_and_every_field_says_what_it_means(oaktag: Run, tmp_path: Path) -> None:
    assert set(words("findings")) == set(CODES)
    for code, held in words("findings").items():
        ran = oaktag("-C", tmp_path, "help", code.lower(), "--json")
        jsonschema.validate(ran.json, _schema("help-code"))
        assert [c["means"] for c in ran.json["codes"]] == [held["means"]]
        assert all(text[-1] in ".;" for text in (held["means"], held["todo"])), code
    every = answers()
    assert {"reach", "decide", "expect-card", "report"} <= set(every) and len(every) > 50
    used = set()
    for name in every:
        ran = oaktag("-C", tmp_path, "help", f"{name}.json", "--json")
        jsonschema.validate(ran.json, _schema("help-json"))
        assert not [f["path"] for f in ran.json["fields"] if not f["text"]], name
        used |= {f["path"].rsplit(".", 1)[-1] for f in ran.json["fields"]}
    assert set(words("fields")) <= used  # nothing is explained that is nowhere
    assert "OT203 warning" in oaktag("help", "ot203").out
    wrong = oaktag("help", "OT999")
    assert wrong.status == 2 and "perhaps OT" in wrong.err
    rows = [line.split()[:2] for line in oaktag("help", "reach.json").out.splitlines()]
    assert ["effect", "flows[]"] in rows and ["segment", "flows[].source"] in rows


def test_the_site_builds_and_all_of_its_links_lead_somewhere(tmp_path: Path) -> None:
    site = tmp_path / "site"
    ran = subprocess.run(
        [sys.executable, "-m", "mkdocs", "build", "--strict", "--quiet", "--site-dir", str(site)],
        cwd=DOCS.parent, capture_output=True, text=True,
    )  # fmt: skip
    assert ran.returncode == 0, ran.stderr
    pages = {p: p.read_text(encoding="utf-8") for p in site.rglob("*.html") if p.name != "404.html"}
    assert len(pages) > 15
    for page, text in pages.items():
        loads = re.findall(r'<(?:script|img|link)[^>]+(?:src|href)="(https?:[^"]+)"', text)
        assert not loads, (page.name, loads)
        for link in re.findall(r'(?:href|src)="([^"#:]+)(?:#[^"]*)?"', text):
            place = (page.parent / link).resolve()
            outside = not place.is_relative_to(site.resolve())
            there = DOCS / page.parent.relative_to(site) / link if outside else place
            assert there.exists(), (page.name, link)
    assert "OT203" in (site / "search/search_index.json").read_text(encoding="utf-8")


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
