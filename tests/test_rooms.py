"""The rooms in docs/architecture.md against the imports of the code. There are no circular imports."""

import ast
import re
from collections import defaultdict
from functools import cache
from pathlib import Path

import pytest

pytestmark = pytest.mark.xdist_group("rooms")  # so that the files are read once
ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src/tenuto"
PURE = ("basics", "curves", "sticks", "switches", "vehicles", "styles", "outputs", "driving", "motion")
MODULES = {
    ".".join(file.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__"): file
    for file in SOURCE.rglob("*.py")
    if file.parent != SOURCE or file.name not in ("__init__.py", "__main__.py")
}


def imports_of(module: str) -> set[tuple[str, str]]:
    """Return the imports of a module: packages, and modules of Tenuto. Typing-only and late imports count too."""
    found = set()
    for node in ast.walk(ast.parse(MODULES[module].read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            names = [f"{node.module}.{one.name}" for one in node.names]
        elif isinstance(node, ast.Import):
            names = [one.name for one in node.names]
        else:
            continue
        for name in names:
            package, _, rest = name.partition(".")
            known = rest if rest in MODULES else rest.rpartition(".")[0]
            found.add((package, known if package == "tenuto" else ""))
    return found - {("tenuto", module)}


@cache
def all_imports() -> dict[str, set[tuple[str, str]]]:
    return {module: imports_of(module) for module in MODULES}


def test_the_table_of_rooms_is_what_the_code_imports() -> None:
    rooms: dict[str, set[str]] = defaultdict(set)
    for module, imports in all_imports().items():
        room = module.split(".")[0]
        rooms[room] |= {name.split(".")[0] for package, name in imports if package == "tenuto" and name} - {room}
    page = (ROOT / "docs/architecture.md").read_text()
    table = dict(re.findall(r"^\| `(\w+)` \|.*\| ([^|]*)\|$", page, re.MULTILINE))
    said = {room: set(re.findall(r"\w+", row)) for room, row in table.items() if row.strip() != "all"}
    assert said == {room: rooms[room] for room in said}
    assert set(rooms) - set(said) == {"cli"}


def test_pure_rooms_import_no_interface() -> None:
    touching = {
        "time", "os", "sys", "io", "pathlib", "threading", "socket", "subprocess", "asyncio", "logging", "serial",
        "sdl2", "pydantic", "typer", "rich", "textual", "matplotlib", "pandas", "scipy", "paho", "pymavlink",
        "cryptography",
    }  # fmt: skip
    for module, imports in all_imports().items():
        if module.split(".")[0] in PURE:
            assert touching.isdisjoint(package for package, _ in imports), module


def test_no_module_imports_itself_by_way_of_others() -> None:
    left = {
        module: {name for package, name in imports if package == "tenuto"} for module, imports in all_imports().items()
    }
    left["driving.tick"].discard("driving.explain")  # the one circle that docs/architecture.md mentions
    while ready := [module for module, imports in left.items() if not imports & set(left)]:
        for module in ready:
            del left[module]
    assert sorted(left) == []


def test_no_file_is_longer_than_anyone_reads() -> None:
    assert [module for module, file in MODULES.items() if file.read_text().count("\n") >= 500] == []


def raised_by(function: ast.AST) -> set[str]:
    """Return the errors in a function, without those in functions within it."""
    found = set()
    for part in ast.iter_child_nodes(function):
        if isinstance(part, ast.Raise) and part.exc is not None:
            found.add(ast.unparse(part.exc).split("(")[0].split(".")[-1])
        elif not isinstance(part, (ast.FunctionDef, ast.Lambda)):
            found |= raised_by(part)
    return {name for name in found if name.endswith("Error")} - {"AttributeError", "NotImplementedError"}


@pytest.mark.long
def test_a_public_function_that_raises_says_so() -> None:
    quiet = []
    for file in SOURCE.rglob("*.py"):
        module = ast.parse(file.read_text())
        classes = [one for one in module.body if isinstance(one, ast.ClassDef) and not one.name.startswith("_")]
        for function in [*module.body, *(part for one in classes for part in one.body)]:
            if not isinstance(function, ast.FunctionDef) or function.name.startswith("_") or "cli" in file.parts:
                continue
            said = ast.get_docstring(function) or ""
            if raised_by(function) and "raise" not in said.lower():
                quiet.append(f"{file.relative_to(SOURCE)}: {function.name}")
    assert quiet == []
