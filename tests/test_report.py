"""The page of a report: what commands say is on it; in a real browser it can be moved about in, by
mouse and keyboard, loads nothing, and nothing that stands in the files acts."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from selenium import webdriver
from selenium.common.exceptions import WebDriverException
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select, WebDriverWait

from conftest import Ran
from test_commands import _schema

Run = Callable[..., Ran]
#: So often it is tried to start the browser, five seconds apart.
TRIES = 7
#: Markup and script wherever text may stand.
EVIL = "</script></title><img src=x onerror='hacked=1'><script>hacked=1</script>"


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[webdriver.Chrome]:
    chromium, driver = shutil.which("chromium"), shutil.which("chromedriver")
    if chromium is None or driver is None:
        if os.environ.get("OAKTAG_REQUIRE_REAL") == "1":
            pytest.fail("chromium is not here (chromium, chromium-driver)")
        pytest.skip("chromium is not here (chromium, chromium-driver)")
    options = webdriver.ChromeOptions()
    options.binary_location = chromium
    for word in (
        "headless=new", "no-sandbox", "disable-gpu", "no-first-run", "disable-background-networking",
        "disable-component-update", "disable-sync", "window-size=1280,800",
    ):  # fmt: skip
        options.add_argument(f"--{word}")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    # With an environment of its own: what other tests leave in ours is none of its business.
    clean = {
        "PATH": os.environ["PATH"], "LANG": "C.UTF-8",
        "HOME": str(tmp_path_factory.mktemp("home")),
    }  # fmt: skip
    for left in reversed(range(TRIES)):
        try:
            made = webdriver.Chrome(
                options=options, service=Service(driver, env=clean, popen_kw={"cwd": clean["HOME"]})
            )
            break
        except WebDriverException as error:  # a loaded machine may not start it at once
            if not left and os.environ.get("OAKTAG_REQUIRE_REAL") == "1":
                raise
            if not left:
                pytest.skip(f"the browser that is here does not start: {error.msg}")
            time.sleep(5)
    yield made
    made.quit()


def _open(browser: webdriver.Chrome, page: Path) -> None:
    browser.get("about:blank")
    browser.get(page.resolve().as_uri())
    WebDriverWait(browser, 30).until(
        lambda b: b.execute_script("return document.documentElement.dataset.ready")
    )


def _quiet(browser: webdriver.Chrome) -> None:
    """Nothing was loaded, nothing complained, nothing acted."""
    assert browser.get_log("browser") == []  # type: ignore[no-untyped-call]
    assert browser.execute_script("return performance.getEntriesByType('resource').length") == 0
    assert browser.execute_script("return typeof hacked") == "undefined"


def _said(browser: webdriver.Chrome) -> str:
    return browser.find_element(By.ID, "m-said").text


def _ask(browser: webdriver.Chrome, source: str, destination: str) -> str:
    for name, word in (("m-from", source), ("m-to", destination)):
        field = browser.find_element(By.ID, name)
        field.clear()
        field.send_keys(word)
    field.send_keys(Keys.ENTER)
    return _said(browser)


def _find(browser: webdriver.Chrome, text: str) -> list[str]:
    field = browser.find_element(By.ID, "find")
    field.clear()
    field.send_keys(text)
    return [o.text for o in browser.find_elements(By.CSS_SELECTOR, "#found [role=option]")]


def test_figures_are_those_of_the_commands(shipped: Path, oaktag: Run, tmp_path: Path) -> None:
    at = ("-C", shipped, "--today", "2026-11-27")
    ran = oaktag(*at, "report", "--out", "page.html", "--json")
    assert ran.status == 0
    jsonschema.validate(ran.json, _schema("report"))
    figures = {f["figure"]: (f["count"], f["of"]) for f in ran.json["figures"]}
    asked = oaktag(*at, "expect", "--json").json
    held = [e["holds"] for e in (*asked["expectations"], *asked["keep_open"])]
    effects = oaktag(*at, "reach", "--json").json["summary"]["effects"]
    members = oaktag(*at, "groups", "--json").json
    every = members["unassigned"] + sum(g["members"] for g in members["groups"])
    found = [len(oaktag(*at, c, "--json").json["findings"]) for c in ("check", "review")]
    assert figures["expectations that hold"] == (sum(held), len(held))
    assert figures["flows that leak"] == (effects["leak"], sum(effects.values()))
    assert figures["flows that break"] == (effects["break"], sum(effects.values()))
    assert figures["flows exactly as meant"] == (effects["exact"], sum(effects.values()))
    assert figures["endpoints in a group"] == (every - members["unassigned"], every)
    assert figures["findings"] == (sum(found), None) and figures["lists proved"] == (2, 2)
    page = shipped / "page.html"
    first = page.read_bytes()
    assert oaktag(*at, "report", "--out", "page.html").status == 0
    assert page.read_bytes() == first
    assert b"http:" not in first.replace(b"http://www.w3.org/2000/svg", b"")

    # The next day, with one expectation fewer: held against this one, also when made twice.
    expectations = shipped / "expectations.yaml"
    rows = expectations.read_text().splitlines(keepends=True)
    expectations.write_text("".join(rows[1:]))
    later = ("-C", shipped, "--today", "2026-11-28")
    for _ in range(2):
        after = oaktag(*later, "report", "--out", "page.html", "--json").json
        assert after["earlier"] == "2026-11-27"
        was = {f["figure"]: f["was"] for f in after["figures"]}
        assert was["expectations that hold"] == [sum(held), len(held)]
        assert was["findings"] == [sum(found), None]
    assert "since 2026-11-27" in page.read_text()

    other = shipped / "notes.html"
    other.write_text("<p>mine</p>")
    ran = oaktag(*at, "report", "--out", "notes.html")
    assert ran.status == 2 and "is no report of this tool" in ran.err
    assert other.read_text() == "<p>mine</p>"


def test_a_service_that_no_line_uses_is_on_the_page(shipped: Path, oaktag: Run) -> None:
    file = shipped / "permissions.yaml"
    file.write_text(
        file.read_text().replace("services:\n", "services:\n  idle: [9999/tcp, 12/udp]\n", 1)
    )
    ran = oaktag("-C", shipped, "report", "--out", "p.html")
    assert ran.status in (0, 1) and "should not happen" not in ran.err, ran.err


def test_what_changed_since_a_revision(shipped: Path, oaktag: Run) -> None:
    git = ["git", "-C", str(shipped), "-c", "user.name=a", "-c", "user.email=a@b.c"]
    for words in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "first"]):
        subprocess.run([*git, *words], check=True)
    layer = shipped / "matrix/20-reading.csv"
    layer.write_text(layer.read_text() + "volunteers,archive,watch,,,,,\n")
    network = shipped / "network.yaml"
    text = network.read_text()
    assert "  - {from: registry, to: hall-edge}\n" in text
    network.write_text(text.replace("  - {from: registry, to: hall-edge}\n", ""))
    expectations = shipped / "expectations.yaml"
    expectations.write_text(expectations.read_text().split("\n", 1)[1])
    assert oaktag("-C", shipped, "report", "--out", "p.html", "--since", "HEAD").status == 0
    changes = (shipped / "p.html").read_text().split('id="changes"', 1)[1]
    assert "What changed since HEAD" in changes and "<h3>1 cell</h3>" in changes
    rows = [
        re.sub("<[^>]+>", " ", r)
        for r in re.findall(r"<tr data-find=\"change\">(.*?)</tr>", changes)
    ]
    assert "Who gains" in changes and "matrix/20-reading.csv:" in rows[0]  # first of all who gains
    (cell,) = (row for row in rows if row.split()[:2] == ["volunteers", "archive"])
    assert "161/udp" in cell or "snmp" in cell
    assert "hall-edge does not know the" in re.sub("<[^>]+>", "", changes)
    assert "In the network" in changes and "not asked" in changes
    assert oaktag("-C", shipped, "report", "--out", "p.html", "--since", "nosuch").status == 2


def test_a_list_that_cannot_be_made_is_told(shipped: Path, oaktag: Run) -> None:
    network = shipped / "network.yaml"
    network.write_text(network.read_text().replace("capacity: 2000", "capacity: 20"))
    ran = oaktag("-C", shipped, "report", "--out", "p.html", "--json")
    assert {"figure": "lists proved", "count": 0, "of": 2, "well": False, "was": None} in ran.json[
        "figures"
    ]
    assert "No list can be made: " in (shipped / "p.html").read_text()


def test_the_page_in_a_browser(shipped: Path, oaktag: Run, browser: webdriver.Chrome) -> None:
    """What it shows is what commands say: cells with lines, members, lists, paths."""
    at = ("-C", shipped)
    assert oaktag(*at, "report", "--out", "p.html").status == 0
    assert oaktag(*at, "compile", "--out", "lists").status == 0
    _open(browser, shipped / "p.html")
    outside = browser.execute_script(
        "const within = (a, b) => a.left >= b.left && a.right <= b.right && a.top >= b.top && a.bottom <= b.bottom;"
        "const at = e => e.getBoundingClientRect(), svg = document.querySelector('svg.network'), found = [];"
        "for (const g of svg.querySelectorAll('.box')) for (const t of g.querySelectorAll('text'))"
        "  if (!within(at(t), at(g.querySelector('rect')))) found.push(t.textContent);"
        "for (const t of svg.querySelectorAll('text')) if (!within(at(t), at(svg))) found.push(t.textContent);"
        "return [svg.querySelectorAll('.box text').length, found]"
    )
    assert outside[0] > 20 and outside[1] == []
    lost = browser.execute_script(
        "return [...document.querySelectorAll(\"a[href^='#']\")].map(a => a.hash.slice(1))"
        ".filter(id => !document.getElementById(id))"
    )
    assert lost == []

    for source, destination in (("kiosks", "catalogue"), ("librarians", "loans-db"), ("core-services", "internet"),
                                ("untagged", "archive")):  # fmt: skip
        told = _ask(browser, source, destination)
        cell = oaktag(*at, "cell", source, destination, "--json").json
        allows = {"any": "everything", "none": "nothing"}.get(cell["allows"], cell["allows"])
        assert f"{source} → {destination}" in told and f"allows {allows}" in told
        assert ("if observed lines acted" in told) == (cell["allows"] != cell["would_allow"])
        for line in cell["lines"]:
            assert f"{line['file']}:{line['line']}" in told
        assert told.count("matrix/") == len({(n["file"], n["line"]) for n in cell["lines"]})

    # By keyboard alone: from the cell that is held, one to the right and one down.
    names = ["untagged", *(g["group"] for g in oaktag(*at, "groups", "--json").json["groups"])]
    canvas = browser.find_element(By.ID, "m-canvas")
    _ask(browser, "kiosks", "catalogue")
    canvas.send_keys(Keys.ESCAPE, Keys.ARROW_RIGHT, Keys.ARROW_DOWN)
    step = [names[names.index(n) + 1] for n in ("kiosks", "catalogue")]
    assert f"{step[0]} → {step[1]}" in _said(browser) and "held" not in _said(browser)

    # Only cells that observed lines would change: what matrix --only observed tells.
    Select(browser.find_element(By.ID, "m-mode")).select_by_value("differ")
    browser.find_element(By.ID, "m-hide").click()
    seen = set()
    canvas.send_keys(*[Keys.ARROW_UP] * 30, *[Keys.ARROW_LEFT] * 30)
    for _ in range(6):
        for _ in range(6):
            if "if observed lines acted" in (told := _said(browser)):
                seen.add(tuple(told.splitlines()[0].split(" → ")))
            canvas.send_keys(Keys.ARROW_RIGHT)
        canvas.send_keys(Keys.ARROW_DOWN, *[Keys.ARROW_LEFT] * 6)
    observed = oaktag(*at, "matrix", "--only", "observed", "--json").json["cells"]
    assert seen == {(c["source"], c["destination"]) for c in observed} and seen

    # Only where a service is allowed: all such cells are there, and no row or column without one.
    Select(browser.find_element(By.ID, "m-mode")).select_by_value("")
    Select(browser.find_element(By.ID, "m-service")).select_by_visible_text("loans-api")
    canvas.send_keys(*[Keys.ARROW_UP] * 30, *[Keys.ARROW_LEFT] * 30)
    asked = oaktag(*at, "matrix", "--service", "loans-api", "--json").json
    none = next(f["form"] for f in asked["forms"] if f["allows"] == "none")
    allowed = {(c["source"], c["destination"]) for c in asked["cells"] if c["form"] != none}
    rows_of, columns_of = ({pair[n] for pair in allowed} for n in (0, 1))
    seen = set()
    for _ in range(len(rows_of) + 1):
        for _ in range(len(columns_of) + 1):
            seen.add(tuple(_said(browser).splitlines()[0].split(" → ")))
            canvas.send_keys(Keys.ARROW_RIGHT)
        canvas.send_keys(Keys.ARROW_DOWN, *[Keys.ARROW_LEFT] * (len(columns_of) + 1))
    assert (
        {s for s, _ in seen} == rows_of and {d for _, d in seen} == columns_of and allowed <= seen
    )
    Select(browser.find_element(By.ID, "m-service")).select_by_value("")

    # Folded by set: cells of several groups say so.
    browser.find_element(By.ID, "m-hide").click()
    Select(browser.find_element(By.ID, "m-mode")).select_by_value("")
    Select(browser.find_element(By.ID, "m-order")).select_by_value("set")
    browser.find_element(By.ID, "m-fold").click()
    canvas.send_keys(
        *[Keys.ARROW_UP] * 30, *[Keys.ARROW_LEFT] * 30, Keys.ARROW_DOWN, Keys.ARROW_RIGHT
    )
    assert "front-desks: 2 groups → front-desks: 2 groups" in _said(browser)
    assert "All of these cells are alike" in _said(browser)

    (found,) = _find(browser, "10.20.200.41")
    assert found.startswith("scans-web endpoint · in archive")
    browser.find_element(By.ID, "find").send_keys(Keys.ENTER)
    group = browser.find_element(By.ID, f"g{names.index('archive')}")
    rows = group.find_elements(By.CSS_SELECTOR, "tbody tr")
    members = oaktag(*at, "members", "archive", "--json").json["endpoints"]
    assert [r.find_element(By.TAG_NAME, "td").text for r in rows] == [
        m["endpoint"] for m in members
    ]
    assert f"{members[0]['by']['file']}:{members[0]['by']['line']}" in rows[0].text

    point = browser.find_element(By.CSS_SELECTOR, "details[data-point='0']")
    browser.execute_script("arguments[0].open = true", point)
    WebDriverWait(browser, 10).until(lambda _: point.find_elements(By.TAG_NAME, "pre"))
    text = browser.execute_script("return arguments[0].querySelector('pre').textContent", point)
    assert text == (shipped / "lists/hall-edge.nft").read_text()

    Select(browser.find_element(By.ID, "n-from")).select_by_visible_text("central-public")
    Select(browser.find_element(By.ID, "n-to")).select_by_visible_text("hall-data")
    way = browser.find_element(By.ID, "n-said").text
    trace = oaktag(*at, "reach", "--from", "central-public", "--to", "hall-data", "--json").json
    assert way.startswith(" → ".join(trace["flows"][0]["path"])), way
    assert len(browser.find_elements(By.CSS_SELECTOR, ".box.on")) == len(trace["flows"][0]["path"])
    _quiet(browser)


def test_nothing_that_files_hold_acts(
    shipped: Path, oaktag: Run, browser: webdriver.Chrome
) -> None:
    quoted = json.dumps(EVIL)
    for name, old, new in (
        ("groups.yaml", "title: Self-check kiosks", f"title: {quoted}"),
        ("groups.yaml", "owner: server hall}", f"owner: {quoted}}}"),
        ("network.yaml", "site: carrier,", f"site: {quoted},"),
        ("oaktag.yaml", "workspace: quillmere", f"workspace: {quoted}"),
        ("matrix/20-reading.csv", ",reading services,", f',{EVIL},{EVIL}'),
    ):  # fmt: skip
        path = shipped / name
        text = path.read_text()
        assert old in text, (name, old)
        path.write_text(text.replace(old, new, 1))
    servers = shipped / "inventory/servers.csv"
    servers.write_text(servers.read_text().replace("catalogue-1,", f"{EVIL},", 1))
    ran = oaktag("-C", shipped, "report", "--out", "p.html", "--json")
    assert ran.status == 0, ran.err
    _open(browser, shipped / "p.html")
    assert browser.title.startswith(EVIL)
    assert any(EVIL in option for option in _find(browser, "onerror"))
    for details in browser.find_elements(By.CSS_SELECTOR, ".row-of"):
        browser.execute_script("arguments[0].open = true", details)
    assert EVIL in _ask(browser, "librarians", "loans-db")
    for tag, count in (("img", 0), ("script", 4), ("title", 1)):
        here = f"return document.querySelectorAll('html > head > {tag}, body {tag}:not(svg {tag})').length"
        assert browser.execute_script(here) == count, tag
    _quiet(browser)


def test_the_page_prints(shipped: Path, oaktag: Run, browser: webdriver.Chrome) -> None:
    """On paper it is the tables and the picture, without what is there to be clicked."""
    assert oaktag("-C", shipped, "report", "--out", "p.html").status == 0
    _open(browser, shipped / "p.html")
    browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
    try:
        seen: dict[str, Any] = {
            word: browser.find_element(By.CSS_SELECTOR, word).is_displayed()
            for word in ("nav", ".find", ".controls", "canvas", "#findings table", ".figures")
        }
    finally:
        browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": ""})
    assert [word for word, there in seen.items() if there] == [
        "canvas",
        "#findings table",
        ".figures",
    ]


#: Links inside the page that lead to no place on it.
LEADING_NOWHERE = """return [...document.querySelectorAll("a[href^='#']")]
    .map(a => a.getAttribute("href").slice(1)).filter(id => !document.getElementById(id))"""


def test_of_what_is_too_much_the_page_says_so(
    shipped: Path, oaktag: Run, browser: webdriver.Chrome, monkeypatch: pytest.MonkeyPatch
) -> None:
    """With small limits: the first of everything, how much more there is, and every link still leads
    somewhere; nodes folded to sites, and too many sites to draw."""
    parts, page = "oaktag.operations.report_parts", "oaktag.report.html_page"
    for name, value in (
        (f"{parts}.MOST_MEMBERS", 60), (f"{parts}.MOST_TEXT", 1000), (f"{parts}.MOST_SEGMENTS", 3), (f"{parts}.MOST_SERVICES", 2),
        (f"{page}.MOST_ROWS", 4), (f"{page}.MOST_LINES", 10),
        ("oaktag.report.network_drawing.MOST_NODES", 4),
    ):  # fmt: skip
        monkeypatch.setattr(name, value)
    assert oaktag("-C", shipped, "report", "--out", "p.html").status == 0
    _open(browser, shipped / "p.html")
    assert browser.execute_script(LEADING_NOWHERE) == []
    (link,) = browser.find_elements(By.XPATH, "//tr[@id='s1']//a[text()='central-access']")
    box = browser.find_element(By.ID, str(link.get_attribute("href")).rsplit("#", 1)[1])
    assert box.find_element(By.CSS_SELECTOR, ".name").text == "central"
    text = browser.find_element(By.TAG_NAME, "main").text
    for told in ("and 9 more: oaktag check --all", "and 10 more: oaktag expect", "Boxes are sites",
                 "52 lines: a cell of the matrix shows those that speak of it", "and 12 more"):  # fmt: skip
        assert told in text, told
    assert re.fullmatch(
        "and [0-9]+ more", browser.find_elements(By.CSS_SELECTOR, "#m-service option")[-1].text
    )
    assert not browser.find_elements(By.ID, "n-from")
    names = [
        "untagged",
        *(g["group"] for g in oaktag("-C", shipped, "groups", "--json").json["groups"]),
    ]
    group = browser.find_element(By.ID, f"g{names.index('patrons')}")
    browser.execute_script("arguments[0].open = true", group)
    WebDriverWait(browser, 10).until(lambda _: group.find_elements(By.CSS_SELECTOR, "tbody tr"))
    assert "Members, the first 3 of 48" in group.text
    assert len(group.find_elements(By.CSS_SELECTOR, "tbody tr")) == 3
    point = browser.find_element(By.CSS_SELECTOR, "details[data-point='0']")
    browser.execute_script("arguments[0].open = true", point)
    WebDriverWait(browser, 10).until(lambda _: "The lists are too long" in point.text)
    # A line that has no place on the page is found, and leads to the matrix.
    found = _find(browser, "30-outside.csv:3")
    assert found and "line" in found[0]
    _quiet(browser)

    monkeypatch.setattr("oaktag.report.network_drawing.MOST_BOXES", 2)
    assert oaktag("-C", shipped, "report", "--out", "p.html").status == 0
    _open(browser, shipped / "p.html")
    text = browser.find_element(By.TAG_NAME, "main").text
    assert "10 nodes in 8 sites are too many to draw" in text
    assert not browser.find_elements(By.TAG_NAME, "svg")
    _quiet(browser)
