"""Where things are kept."""

from __future__ import annotations

import hashlib
import os
import tempfile
from dataclasses import dataclass
from pathlib import Path

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

    @property
    def run(self) -> Path:
        """Sockets and process ids. Moved to the temporary folder where the path would be too long."""
        wanted = self.folder / "run"
        if len(str(wanted)) + 20 <= SOCKET_LIMIT:
            return wanted
        mark = hashlib.sha256(str(self.folder).encode()).hexdigest()[:12]
        return Path(tempfile.gettempdir()) / f"plonket-{os.getuid()}-{mark}"

    def make(self) -> None:
        for folder in (self.folder, self.redis, self.logs, self.run):
            folder.mkdir(parents=True, exist_ok=True)
            folder.chmod(0o700)
