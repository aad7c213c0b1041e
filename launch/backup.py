"""``bin/plonket backup`` and ``restore``: everything of a data folder copied aside, and a data folder made of such a copy.

The database is dumped as it is in one instant, then the store is copied: what the dump names is there by then, and files of the
store are never changed. Against the last backup only what is new takes room: the rest are hard links to it.
"""

from __future__ import annotations

import argparse
import fcntl
import json
import os
import re
import shutil
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from launch import install
from launch.places import ROOT, Data
from launch.say import Stop, say
from launch.services import DATABASE, start_database, words_of

MADE_AGAIN = {"scratch", "thumbs", "mended", "packs", "unpacked", "uploads"}
"""Folders of the store whose files can be made again, or are on their way in."""
STAMP = re.compile(r"^\d{4}-\d{2}-\d{2}_\d{2}-\d{2}-\d{2}$")
NOTE = "backup.json"
DAY_S = 86400.0
VERSION = 1


def backup_main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="plonket backup",
                                     description="Copy everything of yours aside, while Plonket runs or not.")  # fmt: skip
    parser.add_argument("--to", type=Path, required=True, metavar="FOLDER",
                        help="where backups are kept, each in a folder of its own")  # fmt: skip
    parser.add_argument("--data", type=Path, default=ROOT / "var" / "data", help="the data folder (default var/data)")
    parser.add_argument("--keep", type=int, default=7, metavar="N", help="older ones than the last N go (default 7)")
    options = parser.parse_args(arguments)
    if options.keep < 1:
        raise Stop("--keep must be at least 1.")
    install.debian(install.SERVICES)
    made = backup(Data(options.data.resolve()), options.to.resolve(), keep=options.keep)
    print(made)
    return 0


def restore_main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="plonket restore", description="Make a data folder of a backup.")
    parser.add_argument("backup", type=Path, metavar="BACKUP", help="a backup, or the folder of several: the last of them")
    parser.add_argument("--data", type=Path, default=ROOT / "var" / "data",
                        help="the data folder; it must not be there yet (default var/data)")  # fmt: skip
    options = parser.parse_args(arguments)
    install.debian(install.SERVICES)
    restore(options.backup.resolve(), Data(options.data.resolve()))
    say(f"{options.data} is as it was. Start it with: bin/plonket start --data {options.data}")
    return 0


def backup(data: Data, to: Path, *, keep: int = 7) -> Path:
    """Copy a data folder to a new folder in `to`; returns that. Raises `Stop`, and leaves nothing half made."""
    if not (data.folder / "secrets.json").exists():
        raise Stop(f"{data.folder} is no data folder of Plonket.")
    if data.folder == to or data.folder in to.parents:
        raise Stop("A backup inside the data folder would be lost with it. Give another folder, best on another disk.")
    to.mkdir(parents=True, exist_ok=True)
    earlier = backups_in(to)
    part = to / f".making-{os.getpid()}"
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(mode=0o700)
    try:
        with _database(data) as socket:
            _dump(data, socket, part / "database.sql")
        count, copied = _copy_store(data.folder, part, earlier[-1] if earlier else None)
        shutil.copy2(data.folder / "secrets.json", part / "secrets.json")
        about = {"plonket_backup": VERSION, "files": count, "copied_bytes": copied, "made": time.strftime("%Y-%m-%d %H:%M:%S")}
        (part / NOTE).write_text(json.dumps(about, indent=1) + "\n")
        name = time.strftime("%Y-%m-%d_%H-%M-%S")
        while (to / name).exists():
            time.sleep(0.2)
            name = time.strftime("%Y-%m-%d_%H-%M-%S")
        part.rename(to / name)
    except OSError as error:
        raise Stop(f"The backup could not be made: {error.strerror or error}.") from error
    finally:
        shutil.rmtree(part, ignore_errors=True)
    for old in backups_in(to)[:-keep]:
        shutil.rmtree(old, ignore_errors=True)
    return to / name


def backups_in(folder: Path) -> list[Path]:
    """Whole backups, the last one last."""
    if not folder.is_dir():
        return []
    return sorted(p for p in folder.iterdir() if STAMP.match(p.name) and (p / NOTE).exists())


def restore(source: Path, data: Data) -> None:
    """Make a data folder of a backup. Raises `Stop`; the folder appears when all of it is there."""
    if not (source / NOTE).exists():
        several = backups_in(source)
        if not several:
            raise Stop(f"{source} is no backup of Plonket, nor a folder of them.")
        source = several[-1]
    version = json.loads((source / NOTE).read_text()).get("plonket_backup")
    if version != VERSION:
        raise Stop(f"{source.name} was made by a newer Plonket. Bring this one up to date.")
    if data.folder.exists() and any(data.folder.iterdir()):
        raise Stop(f"{data.folder} is there already. Move it aside, or give another one with --data.")
    made = Data(data.folder.with_name(f"{data.folder.name}.restoring"))
    shutil.rmtree(made.folder, ignore_errors=True)
    try:
        made.make()
        for name in ("store", "exchange"):
            if (source / name).is_dir():
                # Copies, not links: a backup stays what it is.
                shutil.copytree(source / name, made.folder / name)
        shutil.copy2(source / "secrets.json", made.folder / "secrets.json")
        with _database(made) as socket:
            _load(made, socket, source / "database.sql")
        shutil.rmtree(made.folder / "run", ignore_errors=True)
        if data.folder.exists():
            data.folder.rmdir()
        made.folder.rename(data.folder)
    except OSError as error:
        raise Stop(f"The backup could not be brought back: {error.strerror or error}.") from error
    finally:
        shutil.rmtree(made.folder, ignore_errors=True)


def keep_backing_up(data: Data, to: Path, stopping: threading.Event, every_s: float = DAY_S) -> None:
    """Make a backup whenever the last one is a day old, until told to stop. What goes wrong is said, and tried again later."""
    while not stopping.is_set():
        last = backups_in(to)
        age = time.time() - (last[-1] / NOTE).stat().st_mtime if last else every_s
        if age >= every_s:
            try:
                backup(data, to)
            except Stop as stop:
                say(f"The backup of today was not made: {stop}")
                age = every_s - min(3600.0, every_s / 2)
            else:
                age = 0.0
        stopping.wait(max(every_s - age, 0.05))


@contextmanager
def _database(data: Data) -> Iterator[Path]:
    """The socket of the data folder's database: of the one that runs, or of one that runs for as long as it is needed."""
    data.make()
    with (data.run / "lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield data.run / "mariadb.sock"
            return
        child = start_database(data)
        try:
            yield data.run / "mariadb.sock"
        finally:
            child.stop(60)


def _tool(name: str, data: Data, socket: Path) -> tuple[list[str], Path]:
    """A database tool that is let in; the password is in a file, for arguments can be read by anyone."""
    path = data.run / f"{name}-{os.getpid()}.cnf"
    path.touch(0o600)
    path.write_text(f"[client]\nuser=plonket\npassword={words_of(data)['mariadb']}\nsocket={socket}\n")
    return [name, f"--defaults-file={path}"], path


def _dump(data: Data, socket: Path, out: Path) -> None:
    command, secret = _tool("mariadb-dump", data, socket)
    try:
        with out.open("wb") as file:
            done = subprocess.run(
                [*command, "--single-transaction", "--quick", "--hex-blob", "--default-character-set=utf8mb4", DATABASE],
                stdout=file, stderr=subprocess.PIPE, text=False,
            )  # fmt: skip
            os.fsync(file.fileno())
    finally:
        secret.unlink(missing_ok=True)
    if done.returncode != 0 or b"-- Dump completed" not in out.read_bytes()[-200:]:
        raise Stop(f"The database could not be dumped: {done.stderr.decode(errors='replace').strip()[-300:]}")


def _load(data: Data, socket: Path, dump: Path) -> None:
    command, secret = _tool("mariadb", data, socket)
    try:
        with dump.open("rb") as file:
            done = subprocess.run([*command, "--default-character-set=utf8mb4", DATABASE], stdin=file, capture_output=True)
    finally:
        secret.unlink(missing_ok=True)
    if done.returncode != 0:
        raise Stop(f"The database could not be read back: {done.stderr.decode(errors='replace').strip()[-300:]}")


def _copy_store(home: Path, to: Path, last: Path | None) -> tuple[int, int]:
    """Copy the store and what lies in the exchange folder; returns how many files, and how many bytes were copied."""
    count = copied = 0
    for name in ("store", "exchange"):
        base = home / name
        for folder, inner, files in os.walk(base):
            here = Path(folder)
            if here == base and name == "store":
                inner[:] = [one for one in inner if one not in MADE_AGAIN and not one.startswith("tmp")]
            target = to / name / here.relative_to(base)
            target.mkdir(parents=True, exist_ok=True)
            for file in files:
                source = here / file
                try:
                    found = source.stat()
                except FileNotFoundError:
                    # Removed meanwhile: nothing names it any more.
                    continue
                known = None if last is None or name != "store" else last / name / here.relative_to(base) / file
                count += 1
                if known is not None and known.exists() and known.stat().st_size == found.st_size:
                    os.link(known, target / file)
                else:
                    shutil.copy2(source, target / file)
                    copied += found.st_size
    return count, copied
