"""Processes that end with the one that started them, however that comes about."""

import ctypes
import signal

_PR_SET_PDEATHSIG = 1


def end_with_parent(number: int = signal.SIGKILL) -> None:
    """In a child, before its program begins: get a signal when what started it has ended."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, number)
