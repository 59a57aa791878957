"""Bindings: address prefix, tag, and where from."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.words import Row, count


def show(page: Page, d: Row) -> None:
    """One row a prefix; or of addresses the binding of each; or what a node lacks."""
    if "missing" in d:
        _missing(page, d)
        return
    if "ends" in d:
        _ends(page, d)
        return
    node = d["at"]
    if "found" in d:
        rows = [(f["address"], f["tag"], f["group"], *_by(f["binding"])) for f in d["found"]]
        page.table(("address", "tag", "group", "by", "source", "of"), rows, right=(1,))
        return
    page.table(
        ("prefix", "tag", "group", "source", "of", "came by" if node != "registry" else "learned at"),
        [
            (
                b["prefix"], b["tag"], b["group"], b["source"], b["who"],
                ", ".join(b["via"]) or b["from"],
            )
            for b in d["bindings"]
        ],
        right=(1,),
        wrap=(4,),
    )  # fmt: skip
    page.say(f"{count(len(d['bindings']), 'binding')} known at {d['at']}")
    if node == "registry":
        page.hint("oaktag bindings --at NODE shows what one node knows of them")
    elif not d["bindings"]:
        page.hint(f"no feed brings {node} anything: see feeds in network.yaml, and oaktag reach")


def _by(binding: dict[str, str] | None) -> tuple[str, str, str]:
    if binding is None:
        return "no binding", "", ""
    return binding["prefix"], binding["source"], binding["who"]


def _missing(page: Page, document: Row) -> None:
    rows = document["missing"]
    if rows:
        page.table(
            ("address", "of", "group", "known as", "where it stopped"),
            [
                (
                    r["address"], r["who"] or f"unknown hosts of {r['segment']}", r["group"],
                    r["known_group"], r["stopped"],
                )
                for r in rows
            ],
            wrap=(1, 4),
        )  # fmt: skip
    noun = "address" if len(rows) == 1 else "addresses"
    page.say(f"{len(rows)} {noun} that {document['at']} should know otherwise")


def _ends(page: Page, document: Row) -> None:
    counts: dict[str, int] = {}
    for row in document["ends"]:
        counts[row["said"]] = counts.get(row["said"], 0) + 1
    usual = ("the same at both ends", "not relayed")
    odd = [r for r in document["ends"] if r["said"] not in usual]
    if odd:
        page.table(
            ("prefix", f"at {document['sender']}", f"at {document['at']}", "so"),
            [(r["prefix"], r["sent_group"], r["held_group"], r["said"]) for r in odd],
        )
    for said, number in counts.items():
        page.say(f"{number} {said}")
