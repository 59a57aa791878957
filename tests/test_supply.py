"""What is shipped, and what it is built and tested with."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tomllib
import zipfile
from pathlib import Path

ROOT = Path(__file__).parent.parent
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]


def test_the_wheel_holds_the_package_and_nothing_else(tmp_path: Path) -> None:
    """Every module, the schemas, both samples, the licence; no test, no cache, no stray file; and what
    was unpacked from it writes the sample, compiles it and proves it."""
    source = tmp_path / "source"
    source.mkdir()
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        shutil.copy(ROOT / name, source)
    shutil.copytree(
        ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info")
    )
    build = [sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--no-build-isolation"]
    subprocess.run(
        [*build, "--wheel-dir", str(tmp_path), str(source)], check=True, capture_output=True
    )
    wheel = next(tmp_path.glob("*.whl"))
    with zipfile.ZipFile(wheel) as held:
        names = set(held.namelist())
        held.extractall(tmp_path / "unpacked")
        about = next(n for n in names if n.endswith("METADATA"))
        said = held.read(about).decode()
    listed = subprocess.run(
        ["git", "-C", str(ROOT), "ls-files", "--cached", "--others", "--exclude-standard", "src"],
        capture_output=True, text=True, check=True,
    ).stdout.split()  # fmt: skip
    meant = {name.removeprefix("src/") for name in listed}
    assert {n for n in names if ".dist-info/" not in n} == meant
    info = {n.split("/", 1)[1] for n in names if ".dist-info/" in n}
    assert info == {
        "METADATA",
        "RECORD",
        "WHEEL",
        "entry_points.txt",
        "licenses/LICENSE",
        "top_level.txt",
    }
    needed = {
        re.split("[><=;]", n)[0].strip()
        for n in re.findall("^Requires-Dist: (?!.*extra ==)(.*)$", said, re.MULTILINE)
    }
    assert needed == {re.split("[><=]", n)[0] for n in PROJECT["dependencies"]}
    script = "import oaktag, sys; print(oaktag.__file__); from oaktag.cli import app; app.run()"
    for words in (
        ["new", "--sample", "--mended", "q"],
        ["-C", "q", "compile"],
        ["-C", "q", "prove", "lists"],
    ):
        done = subprocess.run(
            [sys.executable, "-c", script, *words], cwd=tmp_path, capture_output=True, text=True,
            check=False, env={"PYTHONPATH": str(tmp_path / "unpacked"), "PATH": "/usr/bin:/bin"},
        )  # fmt: skip
        assert done.returncode == 0, (words, done.stdout[-300:], done.stderr)
        assert done.stdout.startswith(str(tmp_path / "unpacked"))


def test_requirements_are_locked_to_the_hash() -> None:
    """Each at one version for each Python, each with hashes; all that the project names is there, and
    no registry is; CI installs from the lock."""
    extras = PROJECT["optional-dependencies"]
    for file, wanted in (("dev.txt", ["dev"]), ("bench.txt", ["dev", "bench"])):
        text = (ROOT / "requirements" / file).read_text()
        blocks = re.split(r"\n(?=[a-z])", text.split("\n", 2)[2])
        pinned = set()
        for block in blocks:
            assert re.match(r"[a-z0-9.-]+==[^ ]+ ", block) and "--hash=sha256:" in block, block[:80]
            pinned.add(block.split("==")[0])
        named = [*PROJECT["dependencies"], *(n for extra in wanted for n in extras[extra])]
        assert {re.split(r"[><=; \[]", n)[0].lower() for n in named} <= pinned
        assert "://" not in text and "index-url" not in text
    rules = (ROOT / "Makefile").read_text()
    assert "install --require-hashes --requirement requirements/dev.txt" in rules
    assert "make test" in (ROOT / ".ci/run").read_text()
