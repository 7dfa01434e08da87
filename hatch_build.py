"""Compiles the engine, and the gate's way to it, ahead of time when a wheel is built, with mypyc.

The very same files run uncompiled as well.

An editable installation stays uncompiled, so that a change of a file is what runs. Where there is no C compiler the
wheel is built without, and says so.
"""

import hashlib
import os
import shutil
import sys
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

GATE = ("kernel/packet_queue", "admission", "loop", "budget", "openings")
COMPILED = ("src/wily_sluice/engine/**/*.py", "src/wily_sluice/recognition/**/*.py",
            *(f"src/wily_sluice/gate/{name}.py" for name in GATE))  # fmt: skip


class Compile(BuildHookInterface[Any]):
    """Adds the compiled modules to the wheel."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Compile, unless the installation is editable."""
        if version == "editable" or self.target_name != "wheel":
            return
        pages = sorted((Path(self.root) / "build" / "man").glob("*.1"))  # `make shipped` makes them
        build_data["shared_data"].update({str(page): f"share/man/man1/{page.name}" for page in pages})
        if os.environ.get("SLUICE_UNCOMPILED"):
            return
        try:
            compiled = _compiled(Path(self.root))
        except (Exception, SystemExit) as error:
            self.app.display_warning(f"the engine is not compiled, and will be slower: {error}")
            return
        build_data["force_include"].update(compiled)
        build_data["pure_python"] = False
        build_data["infer_tag"] = True


def _compiled(root: Path) -> dict[str, str]:
    """The shared objects, and where each belongs in the wheel.

    Kept in `build/` for as long as the sources stay the same: an installer asks for the metadata first, and then again
    for the wheel.
    """
    sources = sorted(file for part in COMPILED for file in root.glob(part) if file.stem != "__init__")
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
    from mypyc.build import mypycify
    from setuptools import Distribution

    here = Path.cwd()
    os.chdir(folder)
    try:
        os.environ["MYPYPATH"] = "src"
        # What is not compiled need not be there with all that it imports: an installer builds apart from our libraries.
        options = ["--strict", "--follow-imports=silent", "--ignore-missing-imports"]
        modules = mypycify([*options, *sources], opt_level="3", target_dir="c")
        command = Distribution({"name": "engine", "ext_modules": modules}).get_command_obj("build_ext")
        command.build_lib, command.build_temp = "lib", "temp"
        command.ensure_finalized()
        command.run()
    finally:
        os.chdir(here)
