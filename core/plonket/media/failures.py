"""One table from PyAV's errors to ours."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import av
import av.error

from plonket.errors import MediaError


@contextmanager
def media_errors(path: Path, doing: str = "read") -> Iterator[None]:
    """Turn decoding and file errors met inside into `MediaError` with advice."""
    try:
        yield
    except (av.error.FileNotFoundError, FileNotFoundError) as error:
        raise MediaError("media.missing", f"{path.name} was not found.") from error
    except (av.error.PermissionError, PermissionError) as error:
        raise MediaError("media.permission", f"{path.name} may not be {doing}: permission denied.") from error
    except (av.error.InvalidDataError, av.error.EOFError) as error:
        raise MediaError(
            "media.unreadable",
            f"{path.name} cannot be read as video or picture: it is damaged, cut off, or something else"
            " under that name. Copy it from the phone again, or export it as MP4.",
        ) from error
    except av.error.FFmpegError as error:
        if getattr(error, "errno", None) == 28:
            raise MediaError("media.disk_full", "The disk is full. Free some space and try again.") from error
        raise MediaError("media.failed", f"{path.name} could not be {doing}: {error.strerror}.") from error
    except OSError as error:
        if error.errno == 28:
            raise MediaError("media.disk_full", "The disk is full. Free some space and try again.") from error
        raise
