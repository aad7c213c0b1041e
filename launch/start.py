"""``bin/plonket start``: everything up, the address printed, everything down on Ctrl-C."""

from __future__ import annotations

import argparse
import fcntl
import os
import signal
import subprocess
import threading
import urllib.request
from pathlib import Path

from launch import install
from launch.backup import keep_backing_up
from launch.places import ROOT, VENV, Data
from launch.processes import Child, Program, end_leftovers, port_is_free, wait_for
from launch.say import Stop, say
from launch.services import start_services
from launch.supervisor import Supervisor

PORT = 8790


def main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="plonket start", description="Start Plonket and print its address.")
    parser.add_argument("--port", type=int, default=PORT, help=f"port of the page on this computer (default {PORT})")
    parser.add_argument("--data", type=Path, default=ROOT / "var" / "data",
                        help="folder for the database, media and results (default var/data)")  # fmt: skip
    parser.add_argument("--backup", type=Path, metavar="FOLDER", help="make a backup there every day")
    parser.add_argument("--no-demo", action="store_true", help="do not load the demo project")
    options = parser.parse_args(arguments)
    if not 1 <= options.port <= 65535:
        raise Stop(f"{options.port} is not a port. Choose one between 1024 and 65535.")
    install.debian(install.SERVICES)
    install.llvm()
    install.python("server")
    install.front_end()
    data = Data(options.data.resolve())
    data.make()
    with (data.run / "lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise Stop(f"Plonket is already running on {data.folder}. Stop it, or use --data with another folder.") from None
        end_leftovers(data.run, str(data.folder))
        if not port_is_free(options.port):
            raise Stop(f"Port {options.port} is taken by another program. Try: bin/plonket start --port {options.port + 10}")
        return _serve(data, options.port, not options.no_demo, options.backup and options.backup.resolve())


def _serve(data: Data, port: int, demo: bool, backups: Path | None) -> int:
    stopping = threading.Event()
    for kind in (signal.SIGINT, signal.SIGTERM):
        signal.signal(kind, lambda *_: stopping.set())
    supervisor = Supervisor()
    try:
        services = start_services(data)
        for service in services.children:
            supervisor.keep(service)
        env = services.env | {"PLONKET_PORT": str(port)}
        _manage(env, ["migrate", "--verbosity", "0"], "The database could not be brought up to date.")
        python = str(VENV / "bin" / "python")

        def program(name: str, *command: str) -> Program:
            return Program(name=name, command=list(command), env=env, log=data.logs / f"{name}.log",
                           pid_file=data.run / f"{name}.pid", cwd=ROOT / "server")  # fmt: skip

        web = Child(program("web", python, "-m", "uvicorn", "plonket_server.asgi:application", "--host", "127.0.0.1", "--port",
                            str(port), "--log-level", "warning", "--ws", "none",
                            "--timeout-graceful-shutdown", "2"))  # fmt: skip
        supervisor.keep(web)
        supervisor.keep(Child(program(
            "worker", python, "-m", "celery", "-A", "plonket_server", "worker", "--concurrency",
            str(max(2, (os.cpu_count() or 2))), "--loglevel", "warning", "--without-gossip", "--without-mingle",
        )))  # fmt: skip
        supervisor.keep(Child(program("keeper", python, "manage.py", "keep_jobs")))
        if not wait_for(lambda: _page_answers(port) or not web.alive(), 60) or not web.alive():
            raise Stop(f"The server did not start: it {web.ending()}.\n{web.tail()}")
        # What is compiled at its first use is compiled now, beside everything else, and only once.
        supervisor.once(program("warm", "nice", python, "-m", "plonket.cli.warm"))

        def ready(loaded: Child | None = None) -> None:
            if loaded is not None and loaded.process.returncode != 0:
                say(f"The demo project could not be loaded; everything else works.\n{loaded.tail()}")
            say(f"\n  Plonket is ready:  http://127.0.0.1:{port}/\n  Stop it with Ctrl-C.\n")

        if demo:
            supervisor.once(program("demo", python, "manage.py", "load_demo"), ready)
        else:
            ready()
        if backups is not None:
            threading.Thread(target=keep_backing_up, args=(data, backups, stopping), daemon=True).start()
        supervisor.watch(stopping)
        say("Stopping ...")
        return 0
    finally:
        supervisor.stop()


def _manage(env: dict[str, str], arguments: list[str], failure: str) -> None:
    done = subprocess.run(
        [str(VENV / "bin" / "python"), "manage.py", *arguments], cwd=ROOT / "server", env=env,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    )  # fmt: skip
    if done.returncode != 0:
        say("\n".join(done.stdout.splitlines()[-12:]))
        raise Stop(failure)


def _page_answers(port: int) -> bool:
    try:
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/api/health", timeout=2) as answer:
            return bool(answer.status == 200)
    except OSError:
        return False
