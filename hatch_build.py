"""Compiles the engine, the gate's way to it, and the lab, ahead of time when a wheel is built, with mypyc.

The very same files run uncompiled as well. An editable installation stays uncompiled, so that a change of a file is
what runs. Without a C compiler the wheel is built uncompiled, and carries the reason: `wily_sluice/form.json`, which
`wily_sluice.outside.machine` reads.

The types of other packages play no part, so it makes no difference what is installed beside the build. The linter
checks them; here, every import of a package that is not ours is of unknown type.
"""

import contextlib
import hashlib
import io
import json
import os
import shlex
import shutil
import sys
import sysconfig
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

LAB = (
    "events",
    "path",
    "meter",
    "kinds/source",
    "kinds/talk",
    "kinds/tcp",
    "kinds/congestion",
    "kinds/meeting",
    "kinds/play",
    "kinds/streaming",
    "kinds/pages",
    "kinds/transfers",
)
GATE = ("kernel/packet_queue", "admission", "loop", "overload")
COMPILED = ("src/wily_sluice/engine/**/*.py", "src/wily_sluice/recognition/**/*.py",
            *(f"src/wily_sluice/forecast/lab/{name}.py" for name in LAB),
            *(f"src/wily_sluice/gate/{name}.py" for name in GATE))  # fmt: skip
# A type error is the linter's business. Debugging symbols take a third of a compiler's time, and -O3 a sixth, for
# a difference in the engine's pace within the noise.
CHECKED = ("--config-file=", "--no-site-packages", "--follow-imports=silent", "--ignore-missing-imports")
LEVELS = {"opt_level": "2", "debug_level": "0"}


class Compile(BuildHookInterface[Any]):
    """Adds the manual pages, the compiled modules, and why there are none if so, to the wheel."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Compile, unless the installation is editable."""
        if version == "editable" or self.target_name != "wheel":
            return
        root = Path(self.root)
        pages = sorted((root / "docs" / "man").glob("*.1"))
        build_data["shared_data"].update({str(page): f"share/man/man1/{page.name}" for page in pages})
        reason = _obstacle()
        if not reason:
            try:
                build_data["force_include"].update(_compiled(root))
                build_data["pure_python"] = False
                build_data["infer_tag"] = True
            except (Exception, SystemExit) as error:
                reason = f"compiling failed when it was installed: {_first_line(error)}"
        if reason:
            self.app.display_warning(f"the engine is not compiled, and will be slower: {reason}")
        form = root / "build" / "form.json"
        form.parent.mkdir(exist_ok=True)
        form.write_text(json.dumps({"reason": reason}))
        build_data["force_include"][str(form)] = "wily_sluice/form.json"


def _obstacle() -> str:
    """What makes compiling impossible here; empty if nothing does."""
    if os.environ.get("SLUICE_UNCOMPILED"):
        return "SLUICE_UNCOMPILED was set when it was installed"
    command = shlex.split(os.environ.get("CC") or sysconfig.get_config_var("CC") or "cc")
    if shutil.which(command[0]) is None:
        return f"no C compiler ({command[0]}) was found when it was installed"
    if not (Path(sysconfig.get_path("include")) / "Python.h").exists():
        return "Python's C headers (Python.h) were not found when it was installed"
    return ""


def _first_line(error: BaseException) -> str:
    lines = [line for line in str(error).splitlines() if line.strip()]
    return lines[0].strip()[:200] if lines else type(error).__name__


def _compiled(root: Path) -> dict[str, str]:
    """The shared objects, and where each belongs in the wheel.

    Kept in `build/` for as long as the sources stay the same: an installer asks for the metadata first, and then again
    for the wheel.
    """
    sources = sorted(file for part in COMPILED for file in root.glob(part) if file.stem != "__init__")
    if missing := [part for part in COMPILED if not any(root.glob(part))]:
        raise RuntimeError(f"no such files: {', '.join(missing)}")
    digest = hashlib.sha256(sys.version.encode())
    for file in [*sources, Path(__file__)]:
        digest.update(file.read_bytes())
    folder = root / "build" / f"engine-{digest.hexdigest()[:16]}"
    if not (folder / "done").exists():
        shutil.rmtree(folder, ignore_errors=True)
        shutil.copytree(root / "src", folder / "src")
        _compile(folder, [str(file.relative_to(root)) for file in sources])
        (folder / "done").touch()
    built = sorted((folder / "lib").rglob("*.so"))
    return {str(file): str(file.relative_to(folder / "lib")) for file in built}


def _compile(folder: Path, sources: list[str]) -> None:
    """Translate to one C file a module, and compile these on all cores."""
    from mypyc.build import mypycify
    from setuptools import Distribution

    printed = io.StringIO()
    with contextlib.chdir(folder):
        os.environ["MYPYPATH"] = "src"
        try:
            with contextlib.redirect_stdout(printed):
                modules = mypycify([*CHECKED, *sources], target_dir="c", multi_file=True, **LEVELS)  # type: ignore[arg-type]
        except SystemExit:
            raise RuntimeError(printed.getvalue()) from None
        command = Distribution({"name": "engine", "ext_modules": modules}).get_command_obj("build_ext")
        command.build_lib, command.build_temp = "lib", "temp"
        command.ensure_finalized()
        build = command.build_extension

        def build_on_all_cores(extension: object) -> None:
            compiler = command.compiler
            compiler.compile = partial(_on_all_cores, type(compiler).compile.__get__(compiler))
            build(extension)

        command.build_extension = build_on_all_cores
        command.run()


def _on_all_cores(compile_one: Any, sources: list[str], **options: Any) -> list[str]:
    """The object files of all sources, each compiled by a process of its own."""
    with ThreadPoolExecutor(len(os.sched_getaffinity(0))) as pool:
        return [file for files in pool.map(lambda source: compile_one([source], **options), sources) for file in files]
