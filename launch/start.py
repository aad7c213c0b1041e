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
from launch.places import ROOT, VENV, Data
from launch.processes import Child, end_leftovers, port_is_free, wait_for
from launch.say import Stop, say
from launch.services import start_services

PORT = 8790


def main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="plonket start", description="Start Plonket and print its address.")
    parser.add_argument("--port", type=int, default=PORT, help=f"port of the page on this computer (default {PORT})")
    parser.add_argument("--data", type=Path, default=ROOT / "var" / "data",
                        help="folder for the database, media and results (default var/data)")  # fmt: skip
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
        return _serve(data, options.port, not options.no_demo)


def _serve(data: Data, port: int, demo: bool) -> int:
    children: list[Child] = []
    stopping = threading.Event()
    for kind in (signal.SIGINT, signal.SIGTERM):
        signal.signal(kind, lambda *_: stopping.set())
    try:
        services = start_services(data)
        children += services.children
        env = services.env | {"PLONKET_PORT": str(port)}
        _manage(env, ["migrate", "--verbosity", "0"], "The database could not be brought up to date.")
        python = str(VENV / "bin" / "python")

        def child(name: str, *command: str) -> Child:
            made = Child(name, [python, *command], env=env, log=data.logs / f"{name}.log",
                         pid_file=data.run / f"{name}.pid", cwd=ROOT / "server")  # fmt: skip
            children.append(made)
            return made

        web = child("web", "-m", "uvicorn", "plonket_server.asgi:application", "--host", "127.0.0.1", "--port",
                    str(port), "--log-level", "warning", "--timeout-graceful-shutdown", "2")  # fmt: skip
        child("worker", "-m", "celery", "-A", "plonket_server", "worker", "--concurrency",
              str(max(2, (os.cpu_count() or 2))), "--loglevel", "warning", "--without-gossip", "--without-mingle")  # fmt: skip
        child("keeper", "manage.py", "keep_jobs")
        if not wait_for(lambda: _page_answers(port) or not web.alive(), 60) or not web.alive():
            raise Stop(f"The server did not start:\n{web.tail()}")
        # What is compiled at its first use is compiled now, beside everything else, and only once.
        children.append(Child("warm", ["nice", python, "-m", "plonket.warm"], env=env, log=data.logs / "warm.log",
                              pid_file=data.run / "warm.pid", cwd=ROOT / "server"))  # fmt: skip
        if demo:
            _manage(env, ["load_demo"], "The demo project could not be loaded.")
        say(f"\n  Plonket is ready:  http://127.0.0.1:{port}/\n  Stop it with Ctrl-C.\n")
        while not stopping.wait(0.5):
            for made in children:
                if not made.alive() and made.name != "warm":
                    raise Stop(f"{made.name} has ended unexpectedly:\n{made.tail()}")
        say("Stopping ...")
        return 0
    finally:
        for made in reversed(children):
            made.stop()


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
