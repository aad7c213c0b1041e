"""Told when a clip is ready to be used, with the shot that has waited for it."""

from django.dispatch import Signal

clip_ready = Signal()
"""Sent by `Asset` with ``asset`` and ``shot``, the id of a shot that is to be made on it."""
