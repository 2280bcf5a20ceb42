"""The demo's folder, made once for all tests that need one of their own: a copy takes no time."""

import atexit
import shutil
import tempfile
from functools import lru_cache
from pathlib import Path

from tests.forked import dotledger


@lru_cache(maxsize=1)
def _made():
    home = Path(tempfile.mkdtemp())
    atexit.register(shutil.rmtree, home, ignore_errors=True)
    done = dotledger("demo", "--folder", "walk", cwd=home)
    assert done.returncode == 0, done.stderr
    return home / "walk", done


def walk_in(home):
    """Copy the demo's folder to ``home/walk``; return it, and what the demo printed."""
    made, done = _made()
    shutil.copytree(made, Path(home) / "walk")
    return Path(home) / "walk", done
