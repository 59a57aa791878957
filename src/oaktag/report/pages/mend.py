"""The cheapest changes after which nothing leaks."""

from __future__ import annotations

from oaktag.report.page import Page
from oaktag.report.pages.change import show as change
from oaktag.report.words import Row


def show(page: Page, d: Row, *, breaks: bool = False, even_if_breaks: bool = False) -> None:
    """What would be changed, at what cost, and what nothing mends."""
    goal = "nothing leaks or breaks" if breaks else "nothing leaks"
    if not even_if_breaks:
        goal += " and nothing exact fares worse"
    besides = " besides what nothing can mend" if d["hopeless"] else ""
    if d["changes"] is None:
        if d["proved"]:
            page.say(f"no set of the {d['choices']} possible changes comes to where {goal}")
        else:
            page.say(f"not found in time: {d['tried']} networks tried; it costs at least "
                f"{d['bound']:g}; --seconds gives it longer")  # fmt: skip
    elif not d["changes"]:
        page.say(f"{goal} already{besides}")
    elif d["proved"]:
        change(page, d)
        cost = f"cost {d['cost']}, proved to be the cheapest after which {goal}{besides}"
        page.paragraph(cost, "    ", first="")
        page.say(f"{d['tried']} networks tried")
    else:
        change(page, d)
        left = len(d["left"])
        page.say(f"the best so far, cost {d['cost']}: {left} rows stay wrong; "
            f"the whole costs at least {d['bound']:g}; more --seconds may do")  # fmt: skip
    for row in d["broken"][:5]:
        page.paragraph(f"exact now, and worse then: {row}", "       ", first="   ")
    if len(d["broken"]) > 5:
        page.say(f"   and {len(d['broken']) - 5} more that fare worse; --json has all")
    for row in d["hopeless"][:5]:
        page.paragraph(f"nothing that is possible mends {row}", "       ", first="   ")
    if len(d["hopeless"]) > 5:
        page.say(f"   and {len(d['hopeless']) - 5} more like these; --json has all")
    if d["changes"] and not d["written"]:
        page.say("can: in network.yaml names what else could be switched on")
