# SPDX-License-Identifier: GPL-3.0-or-later
"""How well the tests hold: change one place of the code at a time, and see whether a test notices.

    mutants.py cover FOLDER              run the suite once, with what each test touches (about ten minutes)
    mutants.py run FOLDER [--count 400] [--seed 7] [--only dsp measure] [--workers 2] [--again]
    mutants.py table FOLDER              the result as a table, survivors listed

FOLDER is a copy of the project (git archive HEAD | tar x -C FOLDER), so that nothing here is touched. Needs
coverage and pytest-cov. Each mutant is tried with the tests that run its line, quickest first, at most so many
seconds of them as --budget says; it is killed when one fails or hangs. Golden figures are tried last, whatever they
take. With --again what survived is tried once more (after tests were added, or with another budget).
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

PACKAGES = ("dsp", "measure", "tools", "score", "project", "media", "session")
SWAPS: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.FloorDiv: ast.Mult,
    ast.And: ast.Or, ast.Or: ast.And, ast.USub: ast.UAdd,
}  # fmt: skip


def kind_of(node: ast.AST) -> str | None:
    """The kind of change that a node allows."""
    kind = None
    match node:
        case ast.Compare(ops=[op]) if type(op) in SWAPS:
            kind = "compare"
        case ast.BinOp(op=op) | ast.BoolOp(op=op) if type(op) in SWAPS:
            kind = "operator"
        case ast.UnaryOp(op=ast.Not()):
            kind = "not"
        case ast.If():
            kind = "condition"
        case ast.Constant(value=bool()):
            kind = "truth"
        case ast.Constant(value=int() | float()):
            kind = "number"
        case ast.Return(value=value) if value is not None and not isinstance(value, ast.Constant):
            kind = "return"
    return kind


class Places(ast.NodeVisitor):
    """Every place that can be changed: (line, column, kind, number among its like)."""

    def __init__(self) -> None:
        self.found: list[tuple[int, int, str]] = []

    def visit(self, node: ast.AST) -> None:
        """Collect, leaving out annotations, docstrings, declarations of settings and words."""
        if (kind := kind_of(node)) is not None:
            self._add(node.test if isinstance(node, ast.If) else node, kind)
        if isinstance(node, ast.AnnAssign):
            parts = [node.value]
        elif isinstance(node, ast.FunctionDef):
            parts = [*node.body, *node.args.defaults, *node.args.kw_defaults]
        elif isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("tr", "plural", "N_"):
            parts = []
        else:
            parts = list(ast.iter_child_nodes(node))
        for part in parts:
            if part is not None:
                self.visit(part)

    def _add(self, node: ast.AST, kind: str) -> None:
        self.found.append((getattr(node, "lineno", 0), getattr(node, "col_offset", 0), kind))


class Change(ast.NodeTransformer):
    """Makes one change."""

    def __init__(self, line: int, column: int, kind: str) -> None:
        self.place, self.kind, self.done = (line, column), kind, False

    def visit(self, node: ast.AST) -> ast.AST:
        """Change the node at the place, once."""
        at = (getattr(node, "lineno", -1), getattr(node, "col_offset", -1))
        if (
            self.kind == "condition"
            and isinstance(node, ast.If)
            and (node.test.lineno, node.test.col_offset) == self.place
        ):
            self.done = True
            node.test = ast.UnaryOp(ast.Not(), node.test)
            return node
        if at == self.place and not self.done and (made := self._made(node)) is not None:
            self.done = True
            return made
        return self.generic_visit(node)

    def _made(self, node: ast.AST) -> ast.AST | None:
        if self.kind == "compare" and isinstance(node, ast.Compare):
            node.ops = [SWAPS[type(node.ops[0])]()]  # type: ignore[list-item]
        elif self.kind == "operator" and isinstance(node, ast.BinOp | ast.BoolOp) and type(node.op) in SWAPS:
            node.op = SWAPS[type(node.op)]()  # type: ignore[assignment]
        elif self.kind == "not" and isinstance(node, ast.UnaryOp):
            return node.operand
        elif self.kind == "number" and isinstance(node, ast.Constant):
            value = node.value
            node.value = value + 1 if isinstance(value, int) else (value * 1.5 if value else 1.0)  # type: ignore[operator]
        elif self.kind == "truth" and isinstance(node, ast.Constant):
            node.value = not node.value
        elif self.kind == "return" and isinstance(node, ast.Return):
            node.value = ast.Constant(None)
        else:
            return None
        return node


def cover(folder: Path) -> None:
    """Run the suite with a context for each test."""
    (folder / ".coveragerc").write_text(
        "[run]\nsource = pulizia\nconcurrency = thread,multiprocessing\nparallel = true\nomit = */desktop/*\n"
    )
    subprocess.run(
        [sys.executable, "-m", "pytest", "-n", "2", "--dist", "worksteal", "-m", "not alone", "-q", "-p", "no:cacheprovider",
         "--cov=pulizia", f"--cov-config={folder}/.coveragerc", "--cov-context=test", "--cov-report=",
         "--durations=0", "--durations-min=0.0", "tests"],
        cwd=folder, env=_environment(folder), check=False, stdout=(folder / "cover.log").open("w"),
    )  # fmt: skip


def _environment(folder: Path) -> dict[str, str]:
    return os.environ | {"PYTHONPATH": f"{folder}/src{os.pathsep}{folder}", "PYTHONDONTWRITEBYTECODE": "1"}


def tests_of(folder: Path) -> tuple[dict[tuple[str, int], set[str]], dict[str, float]]:
    """Which tests run each line, and how long each test takes."""
    base = sqlite3.connect(folder / ".coverage")
    names = {n: c.split("|")[0] for n, c in base.execute("SELECT id, context FROM context") if "|run" in c}
    paths = {n: p[p.index("pulizia/") :] for n, p in base.execute("SELECT id, path FROM file")}
    found: dict[tuple[str, int], set[str]] = {}
    for file, context, bits in base.execute("SELECT file_id, context_id, numbits FROM line_bits"):
        if context not in names:
            continue
        for byte_number, byte in enumerate(bits):
            for bit in range(8):
                if byte >> bit & 1:
                    found.setdefault((paths[file], 8 * byte_number + bit), set()).add(names[context])
    times: Counter[str] = Counter()
    for line in (folder / "cover.log").read_text().splitlines():
        words = line.split()
        if len(words) >= 3 and words[0].endswith("s") and words[1] in ("call", "setup", "teardown"):
            times[" ".join(words[2:])] += float(words[0][:-1])
    return found, dict(times)


def mutants(folder: Path, only: tuple[str, ...]) -> Iterator[tuple[str, int, int, str]]:
    """All places in functions, in files of the chosen packages."""
    for package in only:
        for path in sorted((folder / "src" / "pulizia" / package).rglob("*.py")):
            visitor = Places()
            tree = ast.parse(path.read_text())
            for node in ast.walk(tree):
                if isinstance(node, ast.FunctionDef):
                    visitor.visit(node)
            name = str(path.relative_to(folder / "src"))
            for line, column, kind in dict.fromkeys(visitor.found):
                yield name, line, column, kind


def golden_of(name: str) -> set[str]:
    """The golden figures of a tool's own module, or of all measures, or the diaries; what they touch may lie behind a thread."""
    package, module = name.split("/")[1], Path(name).stem
    test = "tests/golden/test_golden.py::"
    if package == "tools":
        figures = Path(__file__).resolve().parent.parent / "tests" / "golden" / "figures.json"
        return (
            {f"{test}test_a_tool_makes_what_it_made[{module}]"} if module in json.loads(figures.read_text()) else set()
        )
    if package in ("session", "project", "score", "media"):
        return {
            f"tests/golden/test_diaries.py::test_each_deed_changes_what_it_changed[{day}]"
            for day in ("bench", "assembly")
        }
    told = "test_the_measures_say_what_they_said", "test_what_is_told_of_two_sounds_and_seen_of_meters_is_what_it_was"
    return {test + name for name in told}


def try_one(
    work: Path, mutant: tuple[str, int, int, str], tests: list[str], budget_s: float, times: dict[str, float]
) -> tuple[str, str]:
    """Killed, survived or not covered; and by which test."""
    name, line, column, kind = mutant
    path = work / "src" / name
    before = path.read_text()
    tree = ast.parse(before)
    change = Change(line, column, kind)
    tree = change.visit(tree)
    if not change.done:
        return "skipped", ""
    chosen, spent = [], 0.0
    tests = [test for test in tests if "\\" not in test]  # such names cannot be given on a command line
    for test in sorted(tests, key=lambda t: ("golden" in t, times.get(t, 0.05))):
        seconds = times.get(test, 60.0 if "golden" in test else 0.05)
        if chosen and spent + seconds > budget_s and "golden" not in test:
            continue
        chosen.append(test)
        spent += seconds
    if not chosen:
        return "not covered", ""
    try:
        path.write_text(ast.unparse(ast.fix_missing_locations(tree)))
        done = subprocess.run(
            [sys.executable, "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", "--no-xvfb", "--no-header", *chosen],
            cwd=work, env=_environment(work) | {"QT_QPA_PLATFORM": "offscreen"}, capture_output=True, text=True,
            timeout=40 + 5 * spent, check=False,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return "killed", "it hangs"
    finally:
        path.write_text(before)
    if done.returncode == 0:
        return "survived", f"{len(chosen)} of {len(tests)} tests"
    if done.returncode > 2 and "ERROR collecting" not in done.stdout:
        raise RuntimeError(done.stdout[-500:] + done.stderr[-500:])
    failed = [text for text in done.stdout.splitlines() if text.startswith(("FAILED", "ERROR"))]
    return "killed", failed[0][:200] if failed else f"code {done.returncode}"


def run(
    folder: Path, count: int, seed: int, only: tuple[str, ...], workers: int, budget_s: float, *, again: bool
) -> None:
    """Try a sample of mutants; what was tried before is kept, or with *again* what was killed before."""
    covered, times = tests_of(folder)
    every = sorted(mutants(folder, only))
    sample = random.Random(seed).sample(every, min(count, len(every)))
    log = folder / "mutants.jsonl"
    rows = [json.loads(text) for text in log.read_text().splitlines()] if log.exists() else []
    known = {tuple(row["mutant"]) for row in rows if not again or row["result"] != "survived"}
    copies = [folder / f"copy{n}" for n in range(workers)]
    for copy in copies:
        shutil.rmtree(copy, ignore_errors=True)
        copy.mkdir()
        for part in (
            "src",
            "tests",
            "scripts",
            "benchmarks",
            "docs",
            "pyproject.toml",
            "README.md",
            "CHANGELOG.md",
            "Makefile",
        ):
            source = folder / part
            (shutil.copytree if source.is_dir() else shutil.copy)(source, copy / part)

    def work(number: int) -> None:
        for mutant in sample[number::workers]:
            if mutant in known:
                continue
            began = time.monotonic()
            tests = sorted(covered.get((mutant[0], mutant[1]), set()) | golden_of(mutant[0]))
            result, by = try_one(copies[number], mutant, tests, budget_s, times)
            row = {"mutant": mutant, "result": result, "by": by, "seconds": round(time.monotonic() - began, 1)}
            with log.open("a") as file:
                file.write(json.dumps(row) + "\n")

    with ThreadPoolExecutor(workers) as pool:
        list(pool.map(work, range(workers)))


def table(folder: Path) -> None:
    """Killed and survived by package, then every survivor with its line."""
    last = {}
    for text in (folder / "mutants.jsonl").read_text().splitlines():
        row = json.loads(text)
        last[tuple(row["mutant"])] = row  # the last word on each
    rows = list(last.values())
    counts = Counter((row["mutant"][0].split("/")[1], row["result"]) for row in rows)
    print("| package | mutants | killed | survived | not run by any test |\n|---|---|---|---|---|")
    for package in sorted({name for name, _ in counts}):
        k, s, n = (counts[package, result] for result in ("killed", "survived", "not covered"))
        print(f"| {package} | {k + s + n} | {k} ({100 * k / max(1, k + s + n):.0f} %) | {s} | {n} |")
    total = Counter(row["result"] for row in rows)
    of = sum(total[r] for r in ("killed", "survived", "not covered"))
    print(
        f"| all | {of} | {total['killed']} ({100 * total['killed'] / max(1, of):.0f} %) | {total['survived']} | {total['not covered']} |"
    )
    for row in rows:
        if row["result"] in ("survived", "not covered"):
            name, line, column, kind = row["mutant"]
            text = (folder / "src" / name).read_text().splitlines()[line - 1].strip()
            print(f"{row['result']}: {name}:{line}:{column} {kind}: {text[:110]}  ({row['by']})")


def main() -> None:
    """See the head of the file."""
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("what", choices=("cover", "run", "table"))
    options.add_argument("folder", type=Path)
    options.add_argument("--count", type=int, default=400)
    options.add_argument("--seed", type=int, default=7)
    options.add_argument("--only", nargs="+", default=PACKAGES)
    options.add_argument("--workers", type=int, default=1)
    options.add_argument("--budget", type=float, default=25.0)
    options.add_argument("--again", action="store_true")
    given = options.parse_args()
    folder = given.folder.resolve()
    if given.what == "cover":
        cover(folder)
    elif given.what == "run":
        run(folder, given.count, given.seed, tuple(given.only), given.workers, given.budget, again=given.again)
    else:
        table(folder)


if __name__ == "__main__":
    main()
