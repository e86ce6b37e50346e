"""Plants one fault at a time in modules, and tells which of them the tests near do not catch.

`make mutate FILES="veduta/core/query/top_n.py"`; `MOST=30` plants at most thirty a module, evenly spread. mutmut plants
them, in a copy of the project: it rewrites what it works on. It starts pytest, which reads the same test classes."""

from __future__ import annotations

import argparse
import json
import math
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterable, Sequence
from itertools import chain
from pathlib import Path

PROJECT = Path(__file__).parents[1]
SKIPPED = ("node_modules", ".venv", ".git", "__pycache__", "mutants", "docs/screenshots")
NOTHING = "no.such.mutant"
PRELOADED = "preloaded.txt"
OUTCOMES = {None: "not run", 0: "survived", 5: "no test", 33: "no test", 36: "timeout", -24: "timeout"}
"""By pytest's exit code; every other one means that a test failed."""

# The tests by which a module is judged: those near it, without the slowest few. The first prefix that fits counts.
QUERY_TESTS = (
    "tests/core/query",
    *(f"--ignore=tests/core/query/test_{name}.py" for name in ("questions", "batch", "cache")),
    "tests/core/model",
    *(f"tests/core/test_{name}.py" for name in ("calendar", "fiscal_years")),
    *(f"tests/core/chart/test_{name}.py" for name in ("drilling", "mark_filters", "only_marks", "value_groups")),
    "tests/core/dashboard/test_filtering.py",
)
NEAR = {
    "veduta/core/calendar.py": QUERY_TESTS,
    "veduta/core/query/": QUERY_TESTS,
    "veduta/core/model/": QUERY_TESTS,
    "veduta/core/formula/": ("tests/core/formula", *QUERY_TESTS),
    "veduta/core/data/": ("tests/core/data",),
    "veduta/core/shaping/": ("tests/core/shaping",),
    "veduta/core/dashboard/": (
        "tests/core/dashboard",
        *(f"tests/core/chart/test_{name}.py" for name in ("drilling", "mark_filters")),
    ),
    "veduta/core/chart/": ("tests/core/chart",),
    "veduta/web/accounts/": ("tests/web/test_access_and_safety.py",),
    "veduta/web/dashboards/": (
        *(f"tests/web/test_{name}.py" for name in ("dashboard_access", "comments", "publishing", "saved_view_views")),
        "tests/web/test_dashboards.py",
    ),
    "veduta/web/": ("tests/web",),
}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("files", nargs="+", help="Modules to plant faults in.")
    parser.add_argument("--most", type=int, help="Plant at most so many a module.")
    parser.add_argument("--tests", nargs="*", help="Tests to judge by, other than those near.")
    chosen = parser.parse_args()
    by_tests: dict[tuple[str, ...], list[str]] = {}
    for module in chosen.files:
        by_tests.setdefault(tuple(chosen.tests or find_tests(module)), []).append(module)
    for tests, modules in by_tests.items():
        with tempfile.TemporaryDirectory(prefix="veduta-mutants-") as folder:
            mutate(modules, tests, Path(folder), chosen.most)
    return 0


def find_tests(module: str) -> list[str]:
    """The tests near a module."""
    near = next((tests for prefix, tests in NEAR.items() if module.startswith(prefix)), None)
    return list(near) if near else sys.exit(f"No tests are named as near to {module}: see NEAR, or give --tests.")


def mutate(modules: list[str], tests: Sequence[str], folder: Path, most: int | None) -> None:
    """Prints how many of each module's faults are caught, and each that is not."""
    shutil.copytree(PROJECT, folder, dirs_exist_ok=True, ignore=shutil.ignore_patterns(*SKIPPED))
    (folder / PRELOADED).write_text("polars\nhypothesis\ndjango.test\nveduta.core.chart.question\n")
    (folder / "setup.cfg").write_text(write_settings(modules, tests))
    run_mutmut(folder, "run", NOTHING)
    planted = {module: spread_evenly(read_outcomes(folder, module), most) for module in modules}
    said = run_mutmut(folder, "run", *chain.from_iterable(planted.values()))
    for module, names in planted.items():
        outcomes = read_outcomes(folder, module)
        if "not run" in (outcomes[name] for name in names):
            sys.exit(f"The tests fail before any fault is planted:\n{said[-3_000:]}")
        report(module, {name: outcomes[name] for name in names}, folder)


def spread_evenly(names: Iterable[str], most: int | None) -> list[str]:
    every = sorted(names)
    return every[:: math.ceil(len(every) / most)] if most and every else every


def report(module: str, outcomes: dict[str, str], folder: Path) -> None:
    missed = {name: outcome for name, outcome in outcomes.items() if outcome != "caught"}
    caught = len(outcomes) - len(missed)
    print(f"{module}: {caught} of {len(outcomes)} caught ({caught / max(len(outcomes), 1):.1%})")
    for name, outcome in missed.items():
        print(f"  {name} ({outcome})\n{describe_fault(folder, name)}", flush=True)


def write_settings(modules: list[str], tests: Sequence[str]) -> str:
    lines = {
        "source_paths": ["veduta"],
        "only_mutate": modules,
        "also_copy": ["manage.py", "docs", "data", "lint", "CHANGELOG.md", "README.md"],
        # As few migrations as can be: each fault is tried with a database of its own.
        "pytest_add_cli_args": ["-p no:cacheprovider", "-q", "--ds=tests.mutation_settings", "--nomigrations"],
        "pytest_add_cli_args_test_selection": list(tests),
        # Polars' threads do not survive a fork: what has run tests, or loaded them, must not be forked.
        "process_isolation": ["forkserver"],
        "forkserver_warmup": ["import"],
        "preload_modules_file": [PRELOADED],
        # Seconds beside fifteen times what the tests take: collecting them takes longer than many of them do.
        "timeout_constant": ["60"],
        "use_git_change_detection": ["false"],
        "track_dependencies": ["false"],
    }
    return "[mutmut]\n" + "".join(f"{name} = " + "\n    ".join(values) + "\n" for name, values in lines.items())


def run_mutmut(folder: Path, *words: str) -> str:
    command = [sys.executable, "-m", "mutmut", *words]
    environment = os.environ | {
        "VEDUTA_DATA": str(folder / "data"),
        "VEDUTA_SECRET_KEY": "-" * 50,
    }
    return subprocess.run(command, cwd=folder, env=environment, capture_output=True, text=True, check=False).stdout


def read_outcomes(folder: Path, module: str) -> dict[str, str]:
    """What became of each fault of a module: mutmut keeps the exit code of its tests."""
    path = folder / "mutants" / f"{module}.meta"
    codes = json.loads(path.read_text())["exit_code_by_key"] if path.exists() else {}
    return {name: OUTCOMES.get(code, "caught") for name, code in codes.items()}


def describe_fault(folder: Path, name: str) -> str:
    shown = run_mutmut(folder, "show", name).splitlines()
    changed = [line for line in shown if line[:1] in "+-" and line[:3] not in ("+++", "---")]
    return "\n".join(f"    {line[0]} {line[1:].strip()}" for line in changed)


if __name__ == "__main__":
    sys.exit(main())
