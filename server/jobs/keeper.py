"""What the keeper does again and again is announced here by the apps, in their `AppConfig.ready`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Step:
    """Something done at the start, and then every so many seconds."""

    every_s: float
    run: Callable[[], Any]


STEPS: list[Step] = []


def keep(every_s: float, run: Callable[[], Any]) -> None:
    """Have the keeper do something every so many seconds."""
    STEPS.append(Step(every_s, run))
