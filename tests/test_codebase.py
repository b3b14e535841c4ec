"""The codebase keeps its own rules: layers, a core without side effects, schemas that are the types' own."""

import ast
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import NamedTuple

import pytest

import fundamen
from syntax import SOURCE, SYNTAX, module_nodes, nodes_of, parsed_modules

ROOT = Path(__file__).parent.parent
LAYERS = {
    "messages": 0,
    "model": 0,
    "knowledge": 0,
    "formats": 0,
    "machine": 1,
    "trust": 1,
    "loaders": 2,
    "placing": 2,
    "cold_copies": 3,
    "evidence": 2,
    "trace": 3,
    "building": 3,
    "toolchains": 3,
    "directories": 1,
    "survey": 4,
    "certificate_authorities": 3,
    "sources": 3,
    "clues": 4,
    "prerequisites": 4,
    "installers": 4,
    "changes": 4,
    "execution": 5,
    "restore": 6,
    "cases": 7,
    "report": 7,
    "demo": 7,
    "api": 8,
    "cli": 9,
}
CORE = {package for package, layer in LAYERS.items() if layer <= 6}
NEIGHBOURS = {
    ("formats", "messages"),
    ("formats", "model"),
    ("model", "messages"),
    ("knowledge", "model"),
    ("evidence", "trust"),
    ("toolchains", "sources"),
    ("survey", "prerequisites"),
    ("changes", "clues"),
    ("report", "cases"),
}

# What the core leaves to its callers: it is given the moment, the environment and the current folder.
SURROUNDINGS = {
    "datetime.date.today", "datetime.datetime.now", "datetime.datetime.today", "datetime.datetime.utcnow", "input",
    "os.environ", "os.environb", "os.getcwd", "os.getcwdb", "os.getenv", "os.getenvb", "os.path.expandvars",
    "print", "sys.argv", "sys.stderr", "sys.stdin", "sys.stdout", "time.gmtime", "time.localtime", "time.time",
    "time.time_ns",
}  # fmt: skip
HOST = {"getpass", "os.uname", "platform", "socket.getfqdn", "socket.gethostname"}
CHANGES = {
    "os.chflags", "os.chmod", "os.chown", "os.fchmod", "os.fchown", "os.ftruncate", "os.lchown", "os.link",
    "os.makedirs", "os.mkdir", "os.mkfifo", "os.mknod", "os.remove", "os.removedirs", "os.removexattr", "os.rename",
    "os.renames", "os.replace", "os.rmdir", "os.setxattr", "os.symlink", "os.truncate", "os.unlink", "os.utime",
    "shutil.chown", "shutil.copy", "shutil.copy2", "shutil.copyfile", "shutil.copymode", "shutil.copystat",
    "shutil.copytree", "shutil.move", "shutil.rmtree", "shutil.unpack_archive",
}  # fmt: skip
PROCESSES = {
    "asyncio.create_subprocess_exec", "asyncio.create_subprocess_shell", "concurrent.futures.ProcessPoolExecutor",
    "multiprocessing", "os.execl", "os.execle", "os.execlp", "os.execv", "os.execve", "os.execvp", "os.execvpe",
    "os.fork", "os.forkpty", "os.popen", "os.posix_spawn", "os.posix_spawnp", "os.spawnl", "os.spawnv", "os.spawnve",
    "os.startfile", "os.system", "pty", "subprocess.Popen", "subprocess.call", "subprocess.check_call",
    "subprocess.check_output", "subprocess.run",
}  # fmt: skip


# What only POSIX has; ``os.fork`` and its kin are among PROCESSES.
POSIX = {
    "fcntl", "grp", "os.chown", "os.fchmod", "os.fchown", "os.fork", "os.fstatvfs", "os.geteuid", "os.getgid",
    "os.getuid", "os.getxattr", "os.lchown", "os.listxattr", "os.mkfifo", "os.pread", "os.removexattr", "os.setxattr",
    "os.statvfs", "os.wait4", "pwd", "resource", "shutil.chown", "termios",
}  # fmt: skip


class Module(NamedTuple):
    """Imports of a module."""

    imports: frozenset[str]  # the packages of fundamen that it imports from
    uses: frozenset[str]  # the full names, and all that they lie below: ``os.environ.get`` uses ``os.environ``


@cache
def modules(package: str) -> Mapping[str, Module]:
    """Every module of a package by its path."""
    return {
        path: Module(imported_packages(nodes), used_names(nodes))
        for path, nodes in module_nodes().items()
        if path.startswith(f"{package}/")
    }


def imported_packages(nodes: Sequence[ast.AST]) -> frozenset[str]:
    froms = [str(node.module) for node in nodes if isinstance(node, ast.ImportFrom)]
    return frozenset(name.split(".")[1] for name in froms if name.startswith("fundamen."))


def used_names(nodes: Sequence[ast.AST]) -> frozenset[str]:
    """The full names of all that a module takes from elsewhere, however it spells them."""
    known = {name: name for name in ("print", "input")}
    found = set[str]()
    for node in nodes:
        if isinstance(node, ast.Import):
            for each in node.names:
                top = each.name.partition(".")[0]
                known[each.asname or top] = each.name if each.asname else top
            found |= {each.name for each in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            known |= {each.asname or each.name: f"{node.module}.{each.name}" for each in node.names}
            found |= {f"{node.module}.{each.name}" for each in node.names}
    for node in nodes:
        match node:
            case ast.Attribute() | ast.Name():
                found.add(full_name(node, known))
            case ast.Call(func=ast.Name(id="getattr"), args=[of, ast.Constant(value=str(name)), *_]):
                found.add(f"{full_name(of, known)}.{name}")
    return frozenset(name.rsplit(".", dots)[0] for name in found for dots in range(name.count(".") + 1))


def run_imports(statements: Sequence[ast.stmt]) -> Iterator[str]:
    """The modules that are imported as the code runs, at once or later."""
    for node in statements:
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module
            yield from (f"{node.module}.{each.name}" for each in node.names)
        if not (isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING"):
            blocks = (getattr(node, name, ()) for name in ("body", "orelse", "finalbody"))
            yield from run_imports([each for block in blocks for each in block if isinstance(each, ast.stmt)])
            inner = (*getattr(node, "handlers", ()), *getattr(node, "cases", ()))
            yield from run_imports([each for block in inner for each in block.body])


def full_name(node: ast.AST, known: Mapping[str, str]) -> str:
    match node:
        case ast.Name(id=name):
            return known.get(name, "")
        case ast.Attribute(value=of, attr=name):
            return f"{above}.{name}" if (above := full_name(of, known)) else ""
    return ""


def uses(names: set[str], packages: set[str]) -> dict[str, frozenset[str]]:
    """Which modules of some packages use any of these names."""
    found = {m: facts.uses & names for package in packages for m, facts in modules(package).items()}
    return {module: used for module, used in found.items() if used}


# Today's exceptions of the rules below, where there are any. These lists may only get shorter.
SURROUNDINGS_TODAY: dict[str, set[str]] = {}
HOST_TODAY = {"placing/flushing.py": {"os.uname"}}
CHANGES_TODAY = {  # how many of these each uses
    "changes/installers.py": 1,
    "changes/tree_change.py": 1,
    "cold_copies/store.py": 1,
    "cold_copies/taking.py": 1,
    "execution/carrying_out.py": 1,
    "execution/originals.py": 1,
    "installers/unpacking.py": 5,
    "prerequisites/acceptance.py": 1,
    "sources/apt.py": 2,
    "sources/client.py": 1,
    "sources/fetching.py": 3,
    "sources/media.py": 2,
    "sources/own_copies.py": 1,
    "sources/publishing.py": 1,
    "sources/repository.py": 2,
    "sources/store.py": 3,
}
POSIX_TODAY = {
    "changes/around.py",
    "changes/packages.py",
    "api/state_folder.py",
    "execution/hindrance.py",
    "execution/locking.py",
    "installers/unpacking.py",
    "machine/file_bytes.py",
    "machine/file_systems.py",
    "machine/identity.py",
    "machine/places.py",
    "prerequisites/kinds/disk_space.py",
    "prerequisites/kinds/file_system.py",
    "prerequisites/kinds/resource_limit.py",
    "trace/observing_prefix.py",
}
PROCESSES_TODAY = {
    "cli/commands/examine/fleet.py",
    "clues/large.py",
    "demo/story.py",
    "evidence/debian_contents.py",
    "machine/host_tools.py",
    "machine/sharing.py",
    "prerequisites/kinds/command.py",
    "prerequisites/kinds/language_runtime.py",
    "prerequisites/kinds/service.py",
    "restore/launch.py",
    "trace/observing_prefix.py",
    "trace/running.py",
}


@SYNTAX
@pytest.mark.parametrize("package", LAYERS)
def test_a_package_imports_only_from_lower_layers(package: str) -> None:
    imports = {target for facts in modules(package).values() for target in facts.imports} - {package}
    assert {
        target for target in imports if LAYERS[target] >= LAYERS[package] and (package, target) not in NEIGHBOURS
    } == set()
    assert imports or LAYERS[package] == 0


def test_every_folder_of_the_codebase_is_a_package_in_a_layer() -> None:
    assert {path.name for path in SOURCE.iterdir() if path.is_dir() and path.name != "__pycache__"} == set(LAYERS)


@SYNTAX
def test_modules_that_import_one_another_stand_in_no_circle() -> None:
    """What only the type checker reads does not count."""
    trees = {".".join(("fundamen", *Path(path).with_suffix("").parts)): tree for path, tree in parsed_modules().items()}
    graph = {name: {*run_imports(tree.body)} & trees.keys() for name, tree in trees.items()}
    while free := {name for name, needs in graph.items() if not needs & graph.keys()}:
        graph = {name: needs for name, needs in graph.items() if name not in free}
    assert graph == {}


@pytest.mark.parametrize("package", ["cli", "formats", "report"])
def test_no_folder_of_a_large_package_has_more_than_twenty_modules(package: str) -> None:
    folders = {path.parent for path in (SOURCE / package).rglob("*.py")}
    assert {str(each): count for each in folders if (count := len(list(each.glob("*.py")))) > 20} == {}


@pytest.mark.parametrize(
    "code",
    [
        "import os\nos.environ['A']",
        "import os as system\nx = {**system.environ}",
        "from os import environ",
        "from os import environ as inherited",
        "import os\ngetattr(os, 'environ')",
        "import os.path\nos.environ",
    ],
)
def test_a_name_is_found_however_it_is_spelled(code: str) -> None:
    assert "os.environ" in used_names(nodes_of(ast.parse(code)))


@SYNTAX
def test_the_core_neither_prints_nor_reads_clock_or_environment() -> None:
    assert uses(SURROUNDINGS, CORE) == SURROUNDINGS_TODAY


@SYNTAX
def test_the_core_does_not_ask_what_host_it_runs_on() -> None:
    assert uses(HOST, CORE) == HOST_TODAY


@SYNTAX
def test_only_placing_changes_files() -> None:
    assert {module: len(names) for module, names in uses(CHANGES, CORE - {"placing"}).items()} == CHANGES_TODAY


@SYNTAX
def test_what_only_posix_has_is_used_in_named_modules() -> None:
    assert set(uses(POSIX, set(LAYERS) - {"placing"})) == POSIX_TODAY


@SYNTAX
def test_only_named_modules_start_processes() -> None:
    assert set(uses(PROCESSES, set(LAYERS))) == PROCESSES_TODAY


def test_all_public_names_can_be_had() -> None:
    for name in fundamen.__all__:
        assert getattr(fundamen, name)
    with pytest.raises(AttributeError):
        fundamen.nothing_of_this_name  # noqa: B018 - the attribute is looked up for its error


def test_the_reference_and_the_manual_pages_are_those_of_the_commands() -> None:
    subprocess.run([sys.executable, ROOT / "tools" / "write_reference.py", "--check"], check=True)


def test_the_published_schemas_are_those_of_the_types() -> None:
    subprocess.run([sys.executable, ROOT / "tools" / "write_schemas.py", "--check"], check=True)
    assert len(list((ROOT / "docs" / "schemas").glob("*.json"))) == 37
