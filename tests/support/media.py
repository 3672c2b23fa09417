"""Recordings for tests."""

from __future__ import annotations

import io
import wave


def recording(length: int) -> bytes:
    """Return a WAV recording of silence; its samples have a length in bytes."""
    file = io.BytesIO()
    with wave.open(file, "wb") as made:
        made.setnchannels(1)
        made.setsampwidth(2)
        made.setframerate(8000)
        made.writeframes(bytes(length))
    return file.getvalue()
