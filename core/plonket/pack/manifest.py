"""What stands in a pack: shots, what they refer to, and a checksum of every file.

A pack is a ZIP. ``manifest.json`` lists all other files with their sizes and SHA-256; ``shots/000.json`` is a shot's document,
``shots/000-steps.json`` all its steps, if they are wanted; ``assets/DIGEST.ENDING`` and ``measurements/DIGEST.ENDING`` are what
documents name by those digests; an asset that is a folder of pictures lies in ``assets/DIGEST/``.
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from plonket.base.fields import Digest

VERSION = 1
ENDING = ".plonket"
MANIFEST = "manifest.json"
MOST_FILES = 200_000
MOST_MANIFEST_BYTES = 128 * 1024**2
SAFE = re.compile(
    r"^(shots/[0-9]{3,6}(-steps)?\.json|assets/[0-9a-f]{64}(\.[a-z0-9]{1,8})?|assets/[0-9a-f]{64}/[0-9]{6}\.[a-z0-9]{1,8}"
    r"|measurements/[0-9a-f]{64}\.(npz|csv|json))$"
)
"""The only names that files of a pack have; nothing else is looked at."""
Path = Annotated[str, Field(pattern=SAFE.pattern)]


class Part(BaseModel):
    """What a manifest is made of: unknown fields are those of a newer program, and left alone."""

    model_config = ConfigDict(extra="ignore")


class PackedFile(Part):
    """A file of the pack."""

    path: Path
    bytes: int = Field(ge=0)
    sha256: Digest


class PackedAsset(Part):
    """Something from the shelf. `files` has more than one name where it is a folder of pictures."""

    digest: Digest
    kind: Literal["clip", "still", "table", "model", "light", "sound"]
    name: str = Field(min_length=1, max_length=120)
    files: list[Path] = Field(min_length=1, max_length=MOST_FILES)
    words: str = Field(default="", max_length=200)
    settings: dict[str, Any] = Field(default_factory=dict)


class PackedMeasurement(Part):
    """Something that was measured. `summary` is what is known of it."""

    digest: Digest
    file: Path
    kind: str = Field(default="", max_length=20)
    summary: dict[str, Any] = Field(default_factory=dict)


class PackedShot(Part):
    """A shot. `steps`: the file with the steps that led to it, if they are in the pack."""

    name: str = Field(min_length=1, max_length=120)
    document: Path
    steps: Path | None = None


class Manifest(Part):
    """All of a pack."""

    plonket_pack: int = Field(ge=1)
    project: str = Field(min_length=1, max_length=120)
    shots: list[PackedShot] = Field(max_length=10_000)
    assets: list[PackedAsset] = Field(default_factory=list, max_length=MOST_FILES)
    measurements: list[PackedMeasurement] = Field(default_factory=list, max_length=MOST_FILES)
    files: list[PackedFile] = Field(max_length=MOST_FILES)


class Step(Part):
    """One state of a shot; `parent` is the number of the one before it."""

    number: int = Field(ge=1)
    parent: int | None = None
    label: str = Field(max_length=120)
    document: dict[str, Any]


class Steps(Part):
    """A shot's steps. `current`: the number of the one that it stands at."""

    current: int
    steps: list[Step] = Field(min_length=1, max_length=1_000_000)
