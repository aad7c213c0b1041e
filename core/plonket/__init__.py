"""Plonket's core: the computation behind tracked effect shots, without server or screens.

For scripts: `Shot`, `load`, `measure` and `render_frame`, from `plonket.scripting`; fetched when they are asked for, so that
what needs none of it does not wait.
"""

from __future__ import annotations

from typing import Any

SCRIPTING = ("Shot", "load", "measure", "render_frame")


def __getattr__(name: str) -> Any:
    if name in SCRIPTING:
        from plonket import scripting

        return getattr(scripting, name)
    raise AttributeError(f"module 'plonket' has no attribute {name!r}")
