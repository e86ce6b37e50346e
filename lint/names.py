"""The words of the code: `python -m lint.names` fails where a name breaks a rule of docs/glossary.md.

- A function begins with a verb (`verbs.txt`). A property is a noun, and is not looked at.
- No two classes have one name.
- A word that was dropped for a better one (`dropped.txt`) does not come back.
- Nothing that is imported gets another name, but for the libraries that everybody shortens.

What is not yet so stands in `allowed.txt`, a line each; a line that is no longer needed fails as well, so that the list
only shrinks. `python -m lint.names --write` writes it anew.
"""

from __future__ import annotations

import ast
import sys
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

HERE = Path(__file__).parent
ROOT = HERE.parent / "veduta"
ALLOWED = HERE / "allowed.txt"
SHORTENED = {("polars", "pl"), ("datetime", "dt"), ("numpy", "np")}
COMMON = {"Meta", "Config", "Command", "State", "Role"}
"""Classes that Django wants by this name, or that stand within a model of theirs."""
OF_DJANGO = {"ready"}
"""Methods that Django calls by these names."""
NOUNS = {"property", "cached_property", "setter", "validator"}

Definition = ast.FunctionDef | ast.AsyncFunctionDef


def read_words(name: str) -> set[str]:
    """The words of a list beside this file; what follows a # is for people."""
    lines = (HERE / name).read_text().splitlines()
    return {word for line in lines for word in line.partition("#")[0].split()}


def find_faults() -> Iterator[str]:
    """Each fault as "rule file name", in the order of the files."""
    verbs, dropped = read_words("verbs.txt"), read_words("dropped.txt")
    classes: dict[str, list[str]] = defaultdict(list)
    for path in sorted(ROOT.rglob("*.py")):
        if "migrations" in path.parts:
            continue
        file = str(path.relative_to(ROOT))
        if path.stem in dropped:
            yield f"dropped {file} {path.stem}"
        for name, node in _iterate_definitions(ast.parse(path.read_text()), ""):
            last = name.rpartition(".")[2]
            if last in dropped:
                yield f"dropped {file} {name}"
            if isinstance(node, ast.ClassDef):
                classes[node.name].append(file)
            elif not _is_noun(node) and last not in OF_DJANGO and last.lstrip("_").split("_")[0] not in verbs:
                yield f"verb {file} {name}"
        yield from (f"renamed {file} {name}" for name in _iterate_renamed(ast.parse(path.read_text())))
    for name, files in classes.items():
        if len(files) > 1 and name not in COMMON:
            yield from (f"twice {file} {name}" for file in files)


def _iterate_definitions(node: ast.AST, within: str) -> Iterator[tuple[str, ast.ClassDef | Definition]]:
    """Classes, and functions that are not within functions, by their names with those of their classes."""
    for child in ast.iter_child_nodes(node):
        if isinstance(child, ast.ClassDef):
            yield within + child.name, child
            yield from _iterate_definitions(child, f"{within}{child.name}.")
        elif isinstance(child, Definition):
            yield within + child.name, child
        elif isinstance(child, ast.If | ast.Try | ast.With):
            yield from _iterate_definitions(child, within)


def _is_noun(node: Definition) -> bool:
    """Whether a function is read like a value, has its name from the language, or none that is ever called."""
    decorators = {part for each in node.decorator_list for part in ast.unparse(each).replace("(", ".").split(".")}
    return bool(decorators & NOUNS) or node.name == "_" or node.name.startswith("__") or "_Builder" in decorators


def _iterate_renamed(tree: ast.AST) -> Iterator[str]:
    for node in ast.walk(tree):
        if isinstance(node, ast.Import | ast.ImportFrom):
            for each in node.names:
                if each.asname and (each.name, each.asname) not in SHORTENED:
                    yield f"{each.name}>{each.asname}"


def main(arguments: list[str]) -> int:
    """The exit status: 0 if all names are right, or allowed."""
    faults = set(find_faults())
    if "--write" in arguments:
        ALLOWED.write_text("".join(f"{fault}\n" for fault in sorted(faults)))
        return 0
    allowed = set(ALLOWED.read_text().splitlines())
    for fault in sorted(faults - allowed):
        print(f"{fault}: see docs/glossary.md and lint/names.py")
    for fault in sorted(allowed - faults):
        print(f"{fault}: no longer so; take the line out of lint/allowed.txt")
    return int(faults != allowed)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
