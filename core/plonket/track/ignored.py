"""What several kinds of motion do not look at."""

from __future__ import annotations

from typing import Annotated

from plonket.base.fields import GOES, Identifier, reference

Ignored = Annotated[list[Identifier], reference("matte", says="ignores a matte", left=GOES)]
"""Mattes among the motions: what they cover is not looked at."""
