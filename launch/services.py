"""MariaDB on a socket and Redis on loopback, started from the data folder, never as system services."""

from __future__ import annotations

import json
import os
import pwd
import secrets
import shutil
import socket
import subprocess
from dataclasses import dataclass
from pathlib import Path

from launch.places import ROOT, THREADS, Data
from launch.processes import Child, Program, free_port, wait_for
from launch.say import Stop

DATABASE = "plonket"
SQL_MODE = (
    "STRICT_TRANS_TABLES,NO_ZERO_IN_DATE,NO_ZERO_DATE,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION"
)


@dataclass(frozen=True)
class Services:
    """Running services and the environment that leads programs to them."""

    children: list[Child]
    env: dict[str, str]


def start_services(data: Data, *, for_tests: bool = False) -> Services:
    """Start MariaDB and Redis and wait until both answer."""
    data.make()
    words = words_of(data)
    sql = _mariadb(data, words, for_tests)
    broker_port = free_port(8792)
    # In a file, because a password among the arguments could be read by anyone on this machine.
    settings = data.run / "redis.conf"
    settings.touch(0o600)
    settings.write_text(
        f'port {broker_port}\nbind 127.0.0.1\ndir "{data.redis}"\nsave ""\nappendonly no\ndaemonize no\n'
        f"requirepass {words['redis']}\n"
    )
    redis = Child(Program(
        name="redis", command=[_tool("redis-server"), str(settings)], env=dict(os.environ), log=data.logs / "redis.log",
        pid_file=data.run / "redis.pid", cwd=ROOT,
    ))  # fmt: skip
    if not wait_for(lambda: _answers(broker_port) or not redis.alive(), 15) or not redis.alive():
        raise Stop(f"Redis did not start:\n{redis.tail()}")
    env = dict(os.environ)
    env |= {
        "PLONKET_DATA": str(data.folder),
        "PLONKET_DB_SOCKET": str(data.run / "mariadb.sock"),
        "PLONKET_DB_NAME": DATABASE,
        "PLONKET_DB_USER": "plonket",
        "PLONKET_DB_PASSWORD": words["mariadb"],
        "PLONKET_SECRET_KEY": words["django"],
        "PLONKET_BROKER": f"redis://:{words['redis']}@127.0.0.1:{broker_port}/0",
        "PYTHONPATH": f"{ROOT / 'core'}:{ROOT / 'server'}:{ROOT}",
        "DJANGO_SETTINGS_MODULE": "plonket_server.settings",
        "NUMBA_CACHE_DIR": str(ROOT / "var" / "numba"),
        "PYTHONUNBUFFERED": "1",
        **THREADS,
    }
    return Services(children=[sql, redis], env=env)


def start_database(data: Data) -> Child:
    """Start MariaDB alone and wait until it answers."""
    data.make()
    return _mariadb(data, words_of(data), for_tests=False)


def _mariadb(data: Data, words: dict[str, str], for_tests: bool) -> Child:
    user = ["--user=root"] if os.getuid() == 0 else []
    if not (data.mariadb / "mysql").exists():
        # Made aside and renamed, so that a kill in between leaves nothing half made.
        fresh = data.folder / "mariadb.new"
        shutil.rmtree(fresh, ignore_errors=True)
        done = subprocess.run(
            [_tool("mariadb-install-db"), "--no-defaults", "--basedir=/usr", f"--datadir={fresh}",
             "--auth-root-authentication-method=normal", "--skip-test-db", *user],
            capture_output=True, text=True,
        )  # fmt: skip
        if done.returncode != 0:
            raise Stop(f"The database could not be made in {data.mariadb}:\n{done.stdout[-800:]}{done.stderr[-400:]}")
        shutil.rmtree(data.mariadb, ignore_errors=True)
        fresh.rename(data.mariadb)
    init = data.run / "init.sql"
    word = words["mariadb"]
    init.write_text(
        f"CREATE DATABASE IF NOT EXISTS {DATABASE} CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_520_ci;\n"
        f"CREATE USER IF NOT EXISTS plonket@localhost;\n"
        f"ALTER USER plonket@localhost IDENTIFIED BY '{word}';\n"
        f"GRANT ALL ON `{DATABASE}%`.* TO plonket@localhost;\n"
        f"GRANT ALL ON `test\\_{DATABASE}%`.* TO plonket@localhost;\n"
        f"ALTER USER root@localhost IDENTIFIED BY '{word}';\n"
        "DELETE FROM mysql.global_priv WHERE User IN ('', 'root') AND Host <> 'localhost';\nFLUSH PRIVILEGES;\n"
    )
    init.chmod(0o600)
    sock = data.run / "mariadb.sock"
    sock.unlink(missing_ok=True)
    command = [
        _tool("mariadbd"), "--no-defaults", f"--datadir={data.mariadb}", f"--socket={sock}",
        f"--pid-file={data.run / 'mariadbd.own-pid'}", "--skip-networking",
        "--character-set-server=utf8mb4", "--collation-server=utf8mb4_unicode_520_ci", f"--sql-mode={SQL_MODE}",
        "--skip-name-resolve", "--skip-log-bin", f"--init-file={init}", "--max-allowed-packet=64M",
        "--transaction-isolation=READ-COMMITTED",
        f"--innodb-flush-log-at-trx-commit={2 if for_tests else 1}", *user,
    ]  # fmt: skip
    child = Child(Program(name="mariadb", command=command, env=dict(os.environ), log=data.logs / "mariadb.log",
                          pid_file=data.run / "mariadb.pid", cwd=data.folder))  # fmt: skip

    def ready() -> bool:
        return _socket_answers(sock) or not child.alive()

    if not wait_for(ready, 60) or not child.alive():
        raise Stop(f"MariaDB did not start:\n{child.tail()}")
    return child


def words_of(data: Data) -> dict[str, str]:
    """The passwords of a data folder, made when it is new."""
    path = data.folder / "secrets.json"
    if path.exists():
        return dict(json.loads(path.read_text()))
    words = {name: secrets.token_hex(24) for name in ("mariadb", "redis", "django")}
    fd = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(fd, "w") as out:
        json.dump(words, out)
    return words


def _tool(name: str) -> str:
    found = shutil.which(name) or shutil.which(name, path="/usr/sbin:/sbin")
    if found is None:
        raise Stop(f"{name} is missing although its package is installed.")
    return found


def _answers(port: int) -> bool:
    with socket.socket() as s:
        s.settimeout(0.5)
        return s.connect_ex(("127.0.0.1", port)) == 0


def _socket_answers(path: Path) -> bool:
    with socket.socket(socket.AF_UNIX) as s:
        s.settimeout(0.5)
        return s.connect_ex(str(path)) == 0


def whoami() -> str:
    return pwd.getpwuid(os.getuid()).pw_name
