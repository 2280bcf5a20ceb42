"""The command in a process of its own, forked from a server that has loaded everything already.

A fresh interpreter takes half a second to load pandas and SciPy; the tests run some hundred
commands. Each still has its own process, working directory, environment and streams. Where an
option of the interpreter matters, or nothing can be forked, a fresh interpreter runs it.
"""

import json
import multiprocessing
import os
import subprocess
import sys
import tempfile
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

_TIMEOUT = 120
_FRESH = ("PYTHON", "LANG", "LC_", "LD_", "MALLOC")
_SERVER = None
if "forkserver" in multiprocessing.get_all_start_methods():
    _SERVER = multiprocessing.get_context("forkserver")
    _SERVER.set_forkserver_preload(["pandas", "scipy.stats", "sqlalchemy.dialects.sqlite"])


def dotledger(*words, cwd=None, env=None):
    """Run the command; return what `subprocess.run` would."""
    arguments = list(map(str, words))
    changed = env or {}
    if _SERVER is None or any(name.startswith(_FRESH) for name in changed):
        return subprocess.run(
            [sys.executable, "-c", "from dotledger.cli import run; run()", *arguments],
            capture_output=True, text=True, cwd=cwd, env={**os.environ, **changed}, timeout=_TIMEOUT, check=False,
        )  # fmt: skip
    process = started(*arguments, cwd=cwd, env=env)
    status = process.wait()
    done = subprocess.CompletedProcess(arguments, status, *process.texts())
    if "--json" in arguments and done.stdout:
        check_output(done.stdout)
    return done


def check_output(text):
    """Raise if what a command printed with --json does not follow its schema to the last key."""
    import jsonschema

    told = json.loads(text)
    jsonschema.Draft202012Validator(_exact_schema(told["output"])).validate(told)


@lru_cache
def _exact_schema(output):
    from dotledger.cli.output_schemas import output_schema

    return _exact(output_schema(output))


def _exact(part):
    """What is printed today has no keys that the schema does not name, though later ones may."""
    if isinstance(part, list):
        return [_exact(one) for one in part]
    if not isinstance(part, dict):
        return part
    closed = {"additionalProperties": False} if "properties" in part else {}
    return {**closed, **{key: _exact(value) for key, value in part.items()}}


def started(*words, cwd=None, env=None):
    """Start the command, and go on; return what can be waited for or killed."""
    changed = {name: str(value) for name, value in (env or {}).items()}
    return _Started(list(map(str, words)), str(cwd or Path.cwd()), {**os.environ, **changed})


class _Started:
    """A command under way in a process of its own."""

    def __init__(self, words, cwd, env):
        self._streams = [tempfile.NamedTemporaryFile() for _ in range(2)]  # noqa: SIM115
        names = [stream.name for stream in self._streams]
        self._process = _SERVER.Process(target=_run, args=(words, cwd, env, names))
        self._process.start()
        self.pid = self._process.pid

    def is_alive(self):
        """Return whether it has not ended."""
        return self._process.is_alive()

    def kill(self):
        """End it at once; what has ended already stays as it is."""
        self._process.kill()

    def wait(self, timeout=_TIMEOUT):
        """Return the exit status once it has ended."""
        self._process.join(timeout)
        if self._process.exitcode is None:
            raise subprocess.TimeoutExpired("dotledger", timeout)
        return self._process.exitcode

    @property
    def returncode(self):
        """The exit status; None while it runs."""
        return self._process.exitcode

    def communicate(self, timeout=_TIMEOUT):
        """Wait for its end; return what it wrote to both streams as one text, and nothing."""
        self.wait(timeout)
        return "".join(self.texts()), ""

    def texts(self):
        """Return what it wrote to its two streams."""
        texts = []
        for stream in self._streams:
            stream.seek(0)
            texts.append(stream.read().decode("utf-8", "replace").replace("\r\n", "\n"))
        return texts

    def __del__(self):
        for stream in self._streams:
            stream.close()


def _run(words, cwd, env, streams):
    """Run the command with its own streams, environment and folder; end the process."""
    for number, stream in enumerate((os.devnull, *streams)):
        os.dup2(os.open(stream, os.O_RDWR), number)
    os.environ.clear()
    os.environ.update(env)
    os.chdir(cwd)
    sys.argv = ["-c", *words]
    sys.stdin = open(0, encoding="utf-8")  # noqa: SIM115
    sys.stdout = open(1, "w", encoding="utf-8")  # noqa: SIM115
    sys.stderr = open(2, "w", encoding="utf-8", errors="backslashreplace", buffering=1)  # noqa: SIM115
    code = 70
    try:
        from dotledger.cli import run

        run()
        code = 0
    except SystemExit as leaving:
        code = leaving.code if isinstance(leaving.code, int) else int(leaving.code is not None)
    except BaseException:
        import traceback

        traceback.print_exc()
        code = 1
    finally:
        for stream in (sys.stdout, sys.stderr):
            with suppress(OSError, ValueError):
                stream.flush()
        os._exit(code)
