"""How the code reads, in figures, and whether imports go round: fails where one is over what was agreed."""

from __future__ import annotations

import ast
import io
import sys
import tokenize
from collections.abc import Iterator
from pathlib import Path

import grimp

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src" / "larktally"

MOST_CONDITIONALS = 8  # per 1,000 lines
MOST_COMPREHENSIONS = 25  # per 1,000 lines
LEAST_COMMENTS = 2  # lines per 100
COMPREHENSIONS = (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
FRAMES_BY_NUMBER = ("sys._getframe", "inspect.stack")


def main() -> int:
    """Prints the figures; 1 where one of them is not kept."""
    wrong = [*over_limits(), *reaching_in(), *cycles()]
    for line in wrong:
        print(f"house: {line}", file=sys.stderr)
    return 1 if wrong else 0


def over_limits() -> Iterator[str]:
    """Conditional expressions, comprehensions and comments, per line of code."""
    lines = conditionals = comprehensions = comments = 0
    for path in sorted(SOURCE.rglob("*.py")):
        text = path.read_text(encoding="utf-8")
        tree = ast.parse(text)
        lines += len(text.splitlines())
        comments += sum(
            token.type == tokenize.COMMENT for token in tokenize.generate_tokens(io.StringIO(text).readline)
        )
        for node in ast.walk(tree):
            comprehensions += isinstance(node, COMPREHENSIONS)
            if isinstance(node, ast.IfExp):
                conditionals += 1
                if any(isinstance(inner, ast.IfExp) for inner in ast.walk(node) if inner is not node):
                    yield f"{path.relative_to(ROOT)}:{node.lineno}: a conditional expression inside another"
    per_thousand = 1000 / lines
    print(
        f"{lines} lines: {conditionals * per_thousand:.1f} conditional expressions and "
        f"{comprehensions * per_thousand:.1f} comprehensions per 1,000, {comments * 100 / lines:.2f} comments per 100"
    )
    if conditionals * per_thousand > MOST_CONDITIONALS:
        yield f"more than {MOST_CONDITIONALS} conditional expressions per 1,000 lines: unfold them into if and else"
    if comprehensions * per_thousand > MOST_COMPREHENSIONS:
        yield f"more than {MOST_COMPREHENSIONS} comprehensions per 1,000 lines: unfold the long ones into loops"
    if comments * 100 / lines < LEAST_COMMENTS:
        yield f"fewer than {LEAST_COMMENTS} comment lines per 100: say why where the code is surprising"


def reaching_in() -> Iterator[str]:
    """Private names of another module, classes changed under an object, frames counted by number."""
    for path in sorted(SOURCE.rglob("*.py")):
        place = path.relative_to(ROOT)
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ImportFrom):
                for alias in node.names:
                    if alias.name.startswith("_") and not alias.name.endswith("__"):
                        yield f"{place}:{node.lineno}: {alias.name} is private to {node.module}"
            if isinstance(node, ast.Assign) and place.name != "noting_writers.py":
                for target in node.targets:
                    if isinstance(target, ast.Attribute) and target.attr == "__class__":
                        yield f"{place}:{node.lineno}: a class assigned to an object"
            if isinstance(node, ast.Call) and ast.unparse(node.func) in FRAMES_BY_NUMBER and node.args:
                yield f"{place}:{node.lineno}: a frame counted by number"


def cycles() -> Iterator[str]:
    """Imports that go round, at whatever length: those inside functions and those for types alone count too."""
    graph = grimp.build_graph("larktally", exclude_type_checking_imports=False)
    for module in sorted(graph.modules):
        # The package itself imports names of everything, for type checkers alone, and nothing imports it back.
        for imported in sorted(graph.find_modules_directly_imported_by(module)):
            chain = graph.find_shortest_chain(importer=imported, imported=module)
            if chain is not None and "larktally" not in chain:
                yield f"imports go round: {' -> '.join([module, *chain])}"


if __name__ == "__main__":
    sys.exit(main())
