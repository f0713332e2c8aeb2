"""Compiles what is faster compiled, if there is a compiler; Ivrel works without it, too."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sysconfig
from hashlib import sha256
from pathlib import Path
from typing import Any

from hatchling.builders.hooks.plugin.interface import BuildHookInterface

FLAGS = ("-O3", "-std=c11", "-fvisibility=hidden", "-shared", "-fPIC")


class Compiling(BuildHookInterface[Any]):
    """Compiles `signatures.c` into a library beside it, whose name tells the source."""

    def initialize(self, version: str, build_data: dict[str, Any]) -> None:
        """Compile; where there is no compiler, or it fails, the build goes on without."""
        source = Path(self.root, "src", "ivrel", "core", "syslog", "signatures.c")
        compilers = (os.environ.get("CC", ""), "cc", "gcc", "clang")
        compiler = next(filter(shutil.which, compilers), None)
        if self.target_name != "wheel" or os.name != "posix" or compiler is None:
            return
        # The same name as in `ivrel.core.syslog.compiled`.
        name = f"signatures-{sha256(source.read_bytes()).hexdigest()[:12]}.compiled"
        made = source.with_name(f"{name}.{os.getpid()}")
        done = subprocess.run([compiler, *FLAGS, "-o", made, source], check=False)
        if done.returncode:
            made.unlink(missing_ok=True)
            return
        for old in source.parent.glob("signatures-*.compiled"):
            old.unlink()
        made.rename(source.with_name(name))
        if version == "standard":
            system = re.sub(r"[-.]", "_", sysconfig.get_platform())
            build_data.update(pure_python=False, tag=f"py3-none-{system}")
            build_data["artifacts"].append(f"src/ivrel/core/syslog/{name}")
