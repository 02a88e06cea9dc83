"""What can be wrong with the machine the server runs on, told from the errors it makes."""

from __future__ import annotations

import errno
from enum import Enum, auto

from django.db import DatabaseError


class Fault(Enum):
    """A fault of the machine, not of a person or of the program."""

    MEMORY = auto()
    DISK_FULL = auto()
    NOT_WRITABLE = auto()
    BUSY = auto()
    """Something large has been written for longer than others wait for it."""


def fault_of(error: BaseException) -> Fault | None:
    """The fault behind an error, None where it is another."""
    if isinstance(error, MemoryError) or (isinstance(error, RuntimeError) and "start new thread" in str(error)):
        return Fault.MEMORY
    if isinstance(error, OSError):
        if error.errno == errno.ENOMEM:
            return Fault.MEMORY
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            return Fault.DISK_FULL
        if error.errno in (errno.EACCES, errno.EROFS, errno.EPERM):
            return Fault.NOT_WRITABLE
    if isinstance(error, DatabaseError):
        if "disk is full" in str(error):
            return Fault.DISK_FULL
        if "readonly" in str(error):
            return Fault.NOT_WRITABLE
        if "is locked" in str(error):
            return Fault.BUSY
    return None
