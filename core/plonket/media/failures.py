"""One table from PyAV's errors to ours."""

from __future__ import annotations

import errno
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import av
import av.error

from plonket.base.errors import MediaError


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
        raise _unreadable(path) from error
    except av.error.FFmpegError as error:
        if getattr(error, "errno", None) == errno.ENOSPC:
            raise disk_full() from error
        if doing == "read" and getattr(error, "errno", None) == errno.EINVAL:
            # What FFmpeg says of formats that are not among those that are meant.
            raise _unreadable(path) from error
        raise MediaError("media.failed", f"{path.name} could not be {doing}: {error.strerror}.") from error
    except OSError as error:
        if error.errno == errno.ENOSPC:
            raise disk_full() from error
        raise


def _unreadable(path: Path) -> MediaError:
    return MediaError(
        "media.unreadable",
        f"{path.name} cannot be read as video or picture: it is damaged, cut off, or something else"
        " under that name. Copy it from the phone again, or export it as MP4.",
    )


def disk_full() -> MediaError:
    """What a full disk is told as, wherever it is met."""
    return MediaError("media.disk_full", "The disk is full. Free some space and try again.")
