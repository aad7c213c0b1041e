"""States and reasons that measured frames share, whatever was measured."""

from __future__ import annotations

NONE, TRACKED, LOST, GIVEN = 0, 1, 2, 3
STATE_NAMES = ("none", "tracked", "lost", "given")
REASONS = ("", "left the frame", "covered or changed", "too blurred", "no match in reach", "flat here")
LEFT, COVERED, BLURRED, NO_MATCH, FLAT = 1, 2, 3, 4, 5
