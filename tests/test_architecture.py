"""The plan of the house, held by counting: names, rooms, imports, and the way of an option."""

from __future__ import annotations

import ast
import builtins
import re
from collections import Counter, defaultdict
from collections.abc import Iterator
from pathlib import Path

from tests.support.docs import ROOT

SOURCE = ROOT / "src" / "willow_cart"

# Commands have a module in each of these; a name means the same in all of them.
OF_COMMANDS = ("commands", "cli/commands")

# One family of modules for each kind of system, with the same functions and classes.
OF_PLATFORMS = ("platform/posix", "platform/windows")

# Own modules that wait inside a function for heavy third-party packages or slow beginnings, or
# that few hauls need: every start would wait for them.
MOST_LATE_IMPORTS = 23


def modules() -> Iterator[tuple[Path, ast.Module]]:
    for path in sorted(SOURCE.rglob("*.py")):
        yield path.relative_to(SOURCE), ast.parse(path.read_text())


def test_no_two_public_classes_have_one_name() -> None:
    names = Counter(
        node.name
        for path, tree in modules()
        for node in tree.body
        if isinstance(node, ast.ClassDef)
        and not node.name.startswith("_")
        and str(path.parent) != OF_PLATFORMS[1]
    )
    assert [name for name, count in names.items() if count > 1] == []


def test_modules_of_one_name_are_about_the_same() -> None:
    """Only the modules of a command, and of a group of options, have names of what they are for."""
    named = Counter(
        path.stem
        for path, _ in modules()
        if path.stem != "__init__"
        and str(path.parent) not in (*OF_COMMANDS, *OF_PLATFORMS, "options")
    )
    assert [name for name, count in named.items() if count > 1] == []


def test_no_module_is_a_part_of_its_only_reader() -> None:
    """What is short, and is used by one module of its own package only, belongs into that."""
    users: defaultdict[str, set[str]] = defaultdict(set)
    lengths = {}
    for path, tree in modules():
        name = ".".join(("willow_cart", *path.with_suffix("").parts))
        lengths[name] = len((SOURCE / path).read_text().splitlines())
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and node.module:
                users[node.module].add(name)
                for each in node.names:
                    users[f"{node.module}.{each.name}"].add(name)
    small = {
        name
        for name, length in lengths.items()
        if length < 100 and len(users[name]) == 1
        for user in users[name]
        if user.rpartition(".")[0] == name.rpartition(".")[0] and not user.endswith("__init__")
    }
    # The command line runs each command by its name; an errand calls some besides.
    assert {name for name in small if ".cli.commands." not in name} == set()


def test_no_files_import_each_other() -> None:
    """Not in a circle of any length, and not inside functions or for type checkers either."""
    files = {
        ".".join(("willow_cart", *path.with_suffix("").parts)).removesuffix(".__init__"): tree
        for path, tree in modules()
    }
    imports = {
        name: {
            full if (full := f"{node.module}.{each.name}") in files else node.module
            for node in ast.walk(tree)
            if isinstance(node, ast.ImportFrom) and node.module
            for each in node.names
        }
        & files.keys() - {name}
        for name, tree in files.items()
    }
    while free := [name for name, needed in imports.items() if not needed & imports.keys()]:
        for name in free:
            del imports[name]
    assert sorted(imports) == []


def test_docstrings_name_nothing_that_does_not_exist() -> None:
    known = {
        *dir(builtins),
        *(part for path, _ in modules() for part in path.with_suffix("").parts),
    }
    docstrings = []
    for path, tree in modules():
        for node in ast.walk(tree):
            match node:
                case ast.Name(id=name) | ast.Attribute(attr=name) | ast.arg(arg=name):
                    known.add(name)
                case ast.alias(name=name):
                    known.update(name.split("."))
                case ast.ClassDef() | ast.FunctionDef() | ast.AsyncFunctionDef():
                    known.add(node.name)
            if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef):
                docstrings.append((path, ast.get_docstring(node) or ""))
    unknown = [
        f"{path}: {name}"
        for path, text in docstrings
        for name in re.findall(r"`((?:\w+\.)*[A-Z][a-z]\w*|[\w.]+(?=\(\)`))", text)
        if not known.issuperset(name.split("."))
    ]
    # Of other programs and libraries.
    others = {"Fri", "Int64"}
    assert {each for each in unknown if each.rpartition(": ")[2] not in others} == set()


def test_own_modules_are_imported_at_the_top() -> None:
    late = [
        f"{path}:{node.lineno}"
        for path, tree in modules()
        for function in ast.walk(tree)
        if isinstance(function, ast.FunctionDef)
        for node in ast.walk(function)
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("willow_cart")
    ]
    assert len(set(late)) <= MOST_LATE_IMPORTS, late


def test_only_the_command_line_knows_a_parser() -> None:
    knowing = [
        str(path)
        for path, tree in modules()
        for node in ast.walk(tree)
        if isinstance(node, ast.Attribute) and node.attr == "Namespace"
    ]
    assert set(knowing) <= {"cli/arguments.py", "cli/main.py"}


def test_an_option_takes_few_steps_from_its_definition_to_its_use() -> None:
    """`--speed-cap`: defined, made a policy of, handed to the downloader, and heeded."""
    holding = {
        str(path)
        for path, tree in modules()
        for node in ast.walk(tree)
        if (isinstance(node, ast.Attribute) and node.attr == "speed_cap")
        or (isinstance(node, ast.AnnAssign) and ast.unparse(node.target) == "speed_cap")
        or (isinstance(node, ast.keyword) and node.arg == "speed_cap")
    } - {"scripting/keywords.py"}
    assert len(holding) <= 5, holding


def test_only_the_platform_knows_the_operating_system() -> None:
    of_systems = {"ctypes", "fcntl", "msvcrt", "platform", "platformdirs", "pwd", "resource",
                  "termios"}  # fmt: skip
    knowing = [
        f"{path}: {ast.unparse(node)}"
        for path, tree in modules()
        if path.parts[0] not in ("platform", "demo")
        for node in ast.walk(tree)
        if (isinstance(node, ast.Import) and of_systems & {each.name for each in node.names})
        or (isinstance(node, ast.ImportFrom) and node.module in of_systems)
        or (isinstance(node, ast.Attribute) and ast.unparse(node) in ("sys.platform", "os.name"))
        or (
            isinstance(node, ast.Call)
            and ast.unparse(node.func) == "hasattr"
            and ast.unparse(node.args[0]) == "os"
        )
    ]
    assert knowing == []


def test_both_families_of_the_platform_have_the_same_functions() -> None:
    def public(family: str) -> dict[str, list[str]]:
        """Functions and methods, with their parameters; classes, and names in capitals."""
        found: dict[str, list[str]] = {}
        for path, tree in modules():
            if str(path.parent) != family:
                continue
            scopes: list[ast.Module | ast.ClassDef] = [tree]
            scopes += [each for each in tree.body if isinstance(each, ast.ClassDef)]
            for scope in scopes:
                for node in scope.body:
                    name = getattr(node, "name", "") or ast.unparse(
                        getattr(node, "targets", [node])[0]
                    )
                    if isinstance(node, ast.FunctionDef):
                        given = [each.arg for each in (*node.args.args, *node.args.kwonlyargs)]
                        found[f"{path.stem}.{getattr(scope, 'name', '')}.{name}"] = given
                    elif isinstance(node, ast.ClassDef) or name.isupper():
                        found[f"{path.stem}.{name}"] = []
        private = ("kernel.", "c_library.")
        return {
            name: given
            for name, given in found.items()
            if not name.startswith(private) and not name.split(".")[-1].startswith("_")
        }

    posix, windows = map(public, OF_PLATFORMS)
    assert posix == windows
    assert len(posix) > 30


def test_standard_output_and_standard_error_have_one_way_each() -> None:
    """What is printed is made printable there."""
    printing = {
        str(path)
        for path, tree in modules()
        if path.parts[0] not in ("demo", "standalone")
        for node in ast.walk(tree)
        if isinstance(node, ast.Call)
        and ast.unparse(node.func) in ("print", "sys.stdout.write", "sys.stderr.write")
    }
    assert printing == {"cli/screen.py", "scripting/requesting.py"}
