"""Where things are kept."""

from __future__ import annotations

import os
import stat
import tempfile
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from launch.say import Stop

ROOT = Path(__file__).resolve().parent.parent
VENV = ROOT / ".venv"
STAMPS = ROOT / "var" / "setup"
WEB = ROOT / "web"
THREADS = {"OPENBLAS_NUM_THREADS": "1"}
"""Linear algebra here is small: threads for it only wait for each other, and for whatever else the cores do."""
SOCKET_LIMIT = 100
"""Unix socket paths may have 107 bytes at most."""


@dataclass(frozen=True)
class Data:
    """The data folder of one running Plonket."""

    folder: Path

    @property
    def mariadb(self) -> Path:
        return self.folder / "mariadb"

    @property
    def redis(self) -> Path:
        return self.folder / "redis"

    @property
    def logs(self) -> Path:
        return self.folder / "logs"

    @cached_property
    def run(self) -> Path:
        """Sockets and process ids. Moved to the temporary folder where the path would be too long.

        There its name cannot be guessed, so nobody else can have made it before; the data folder remembers it.
        """
        wanted = self.folder / "run"
        if len(str(wanted)) + 20 <= SOCKET_LIMIT:
            return wanted
        note = self.folder / "run-folder"
        if note.exists() and _is_private(known := Path(note.read_text().strip())):
            return known
        self.folder.mkdir(parents=True, exist_ok=True)
        made = Path(tempfile.mkdtemp(prefix="plonket-"))
        if len(str(made)) + 20 > SOCKET_LIMIT:
            made.rmdir()
            raise Stop(f"The path of {self.folder} is too long for sockets. Use --data with a shorter one.")
        note.write_text(str(made))
        return made

    def make(self) -> None:
        for folder in (self.folder, self.redis, self.logs, self.run):
            folder.mkdir(parents=True, exist_ok=True)
            folder.chmod(0o700)


def _is_private(folder: Path) -> bool:
    """Whether it is a folder of ours that nobody else may enter."""
    try:
        found = folder.lstat()
    except OSError:
        return False
    return stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid() and not found.st_mode & 0o077
