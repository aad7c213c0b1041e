"""Everything copied aside, the data folder really lost, and brought back; with a real database."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import threading
import unittest
from pathlib import Path

from django.test import tag

from launch import backup as aside
from launch.backup import backup, backups_in, keep_backing_up, restore
from launch.places import Data
from launch.processes import wait_for
from launch.say import Stop
from launch.services import start_database, words_of
from launch.tests import LAUNCHER


@tag(LAUNCHER)
class Backups(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory(prefix="pb-", dir="/tmp")
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.data, self.to = Data(self.folder / "data"), self.folder / "aside"

    def ask(self, words: str) -> str:
        """What a database answers that runs."""
        done = subprocess.run(
            ["mariadb", "--no-defaults", f"--socket={self.data.run / 'mariadb.sock'}", "-uplonket",
             f"-p{words_of(self.data)['mariadb']}", "-N", "-e", words, "plonket"], capture_output=True, text=True, check=True,
        )  # fmt: skip
        return done.stdout.strip()

    def keep(self, name: str, text: str) -> Path:
        path = self.data.folder / "store" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        return path

    def fill(self) -> None:
        database = start_database(self.data)
        try:
            self.ask("CREATE TABLE shots (name VARCHAR(60) PRIMARY KEY, data LONGBLOB)")
            self.ask("INSERT INTO shots VALUES ('Löwe ★', x'00ff27'), ('two', NULL)")
        finally:
            database.stop()
        self.keep("originals/ab/abcd.mp4", "clip")
        self.keep("measurements/cd/cdef.npz", "numbers")
        self.keep("scratch/filmed/x", "made again")

    def test_lost_and_brought_back(self) -> None:
        self.fill()
        made = backup(self.data, self.to)
        self.assertFalse((made / "store" / "scratch").exists())
        self.assertEqual(oct((made / "secrets.json").stat().st_mode)[-3:], "600")
        words = words_of(self.data)
        shutil.rmtree(self.data.folder)
        restore(self.to, self.data)
        self.assertEqual(words_of(self.data), words)
        self.assertEqual((self.data.folder / "store/originals/ab/abcd.mp4").read_text(), "clip")
        database = start_database(self.data)
        try:
            self.assertEqual(self.ask("SELECT HEX(data) FROM shots WHERE name = 'Löwe ★'"), "00FF27")
            self.assertEqual(self.ask("SELECT COUNT(*) FROM shots"), "2")
        finally:
            database.stop()
        # What is changed now leaves the backup alone.
        (self.data.folder / "store/originals/ab/abcd.mp4").write_text("other")
        self.assertEqual((made / "store/originals/ab/abcd.mp4").read_text(), "clip")
        with self.assertRaisesRegex(Stop, "there already"):
            restore(self.to, self.data)

    def test_while_it_runs_and_only_what_is_new_takes_room(self) -> None:
        self.fill()
        first = backup(self.data, self.to)
        self.keep("originals/ef/efgh.png", "still")
        # As a running Plonket holds it.
        with (self.data.run / "lock").open("w") as lock:
            import fcntl

            database = start_database(self.data)
            fcntl.flock(lock, fcntl.LOCK_EX)
            try:
                self.ask("INSERT INTO shots VALUES ('three', NULL)")
                second = backup(self.data, self.to)
                self.assertTrue(database.alive())
            finally:
                database.stop()
        clip = "store/originals/ab/abcd.mp4"
        self.assertEqual(os.stat(first / clip).st_ino, os.stat(second / clip).st_ino)
        self.assertEqual((second / "store/originals/ef/efgh.png").read_text(), "still")
        self.assertIn("'three'", (second / "database.sql").read_text())
        third = backup(self.data, self.to, keep=2)
        self.assertEqual(backups_in(self.to), [second, third])

    def test_what_is_no_backup_changes_nothing(self) -> None:
        for words, run in (
            ("no data folder", lambda: backup(Data(self.folder / "nowhere"), self.to)),
            ("no backup", lambda: restore(self.folder, Data(self.folder / "new"))),
        ):
            with self.assertRaisesRegex(Stop, words):
                run()
        words_of(self._made())
        with self.assertRaisesRegex(Stop, "inside the data folder"):
            backup(self.data, self.data.folder / "aside")
        self.to.mkdir()
        bad = self.to / "2026-01-01_00-00-00"
        bad.mkdir()
        (bad / "backup.json").write_text('{"plonket_backup": 7}')
        with self.assertRaisesRegex(Stop, "newer Plonket"):
            restore(bad, Data(self.folder / "new"))
        (bad / "backup.json").write_text('{"plonket_backup": 1}')
        (bad / "secrets.json").write_text((self.data.folder / "secrets.json").read_text())
        (bad / "database.sql").write_text("this is no SQL;")
        with self.assertRaisesRegex(Stop, "could not be read back"):
            restore(bad, Data(self.folder / "new"))
        self.assertFalse((self.folder / "new").exists())
        self.assertFalse((self.folder / "new.restoring").exists())

    def _made(self) -> Data:
        self.data.make()
        return self.data

    def test_every_day_by_itself(self) -> None:
        stopping, made = threading.Event(), list[Path]()

        def instead(data: Data, to: Path) -> Path:
            made.append(to)
            folder = to / f"2026-01-01_00-00-{len(made):02d}"
            folder.mkdir(parents=True)
            (folder / "backup.json").write_text("{}")
            if len(made) == 2:
                raise Stop("the disk is full")
            return folder

        was = aside.backup
        aside.backup = instead  # type: ignore[assignment]
        try:
            thread = threading.Thread(target=keep_backing_up, args=(self.data, self.to, stopping, 0.3))
            thread.start()
            self.assertTrue(wait_for(lambda: len(made) >= 3, 20), "it goes on after one that failed")
        finally:
            stopping.set()
            thread.join(10)
            aside.backup = was
        self.assertFalse(thread.is_alive())
