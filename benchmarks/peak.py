"""A process's own peak memory."""

import re
from pathlib import Path


def peak_bytes() -> int:
    """Return the peak resident memory of this process in bytes.

    `getrusage` will not do: Linux hands a parent's peak on to the programs it starts, so that a small program started
    by a large one would be told as large (man getrusage, ru_maxrss; the kernel keeps it through execve).
    """
    kibibytes = re.search(r"VmHWM:\s+(\d+) kB", Path("/proc/self/status").read_text())
    return int(kibibytes[1]) * 1024
