"""The command in a process of its own, forked from one that has loaded everything already.

A fresh interpreter takes half a second to load pandas and SciPy; the tests run some hundred
commands. Each still has its own process, working directory, environment and streams. Where an
option of the interpreter matters, or nothing can be forked, a fresh interpreter runs it.
"""

import atexit
import json
import os
import select
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

_TIMEOUT = 120
_FRESH = ("PYTHON", "LANG", "LC_", "LD_", "MALLOC")


def dotledger(*words, cwd=None, env=None):
    """Run the command; return what `subprocess.run` would."""
    arguments = list(map(str, words))
    changed = env or {}
    if not hasattr(os, "fork") or any(name.startswith(_FRESH) for name in changed):
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
    from dotledger.cli.outputs import output_schema

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
    asked = {"argv": ["-c", *map(str, words)], "cwd": str(cwd or Path.cwd()), "env": {**os.environ, **changed}}  # fmt: skip
    return _Started(json.dumps(asked).encode())


class _Started:
    """A command under way in a process that the helper has forked."""

    def __init__(self, message):
        self._streams = [tempfile.TemporaryFile() for _ in range(2)]  # noqa: SIM115
        self._line = socket.socket(socket.AF_UNIX)
        self._line.settimeout(_TIMEOUT)
        self._line.connect(_server())
        files = [stream.fileno() for stream in self._streams]
        socket.send_fds(self._line, [len(message).to_bytes(4, "big")], files)
        self._line.sendall(message)
        self.pid = int.from_bytes(_received(self._line, 4), "big")
        self._status = None

    def is_alive(self):
        """Return whether it has not ended."""
        return self._status is None and not select.select([self._line], [], [], 0)[0]

    def kill(self):
        """End it at once; what has ended already stays as it is."""
        with suppress(ProcessLookupError):
            os.kill(self.pid, signal.SIGKILL)

    def wait(self):
        """Return the exit status once it has ended."""
        if self._status is None:
            self._status = int(self._line.recv(8) or b"-9")
            self._line.close()
        return self._status

    @property
    def returncode(self):
        """The exit status; None while it has not been waited for."""
        return self._status

    def communicate(self, timeout=_TIMEOUT):
        """Wait for its end; return what it wrote to both streams as one text, and nothing."""
        if self._status is None:
            self._line.settimeout(timeout)
        self.wait()
        return "".join(self.texts()), ""

    def texts(self):
        """Return what it wrote to its two streams, which are closed."""
        for stream in self._streams:
            stream.seek(0)
        return [stream.read().decode("utf-8", "replace").replace("\r\n", "\n") for stream in self._streams]  # fmt: skip

    def __del__(self):
        for one in (*self._streams, self._line):
            one.close()


def _received(line, size):
    whole = b""
    while len(whole) < size:
        whole += line.recv(size - len(whole))
    return whole


@lru_cache(maxsize=1)
def _server():
    """Start the process that forks; return where it listens."""
    home = tempfile.mkdtemp()
    where = str(Path(home) / "s")
    process = subprocess.Popen([sys.executable, "-m", "tests.forked", where], stdout=subprocess.PIPE, text=True)  # fmt: skip
    atexit.register(shutil.rmtree, home, ignore_errors=True)
    atexit.register(process.stdout.close)
    atexit.register(process.wait)
    atexit.register(process.kill)
    assert process.stdout.readline() == "ready\n"
    return where


def _serve(where):
    import pandas  # noqa: F401 - loaded for those that are forked
    import scipy.stats  # noqa: F401
    import sqlalchemy.dialects.sqlite  # noqa: F401

    listening = socket.socket(socket.AF_UNIX)
    listening.bind(where)
    listening.listen(16)
    print("ready", flush=True)
    while True:
        line, _ = listening.accept()
        if os.fork():
            line.close()
            _reap()
            continue
        listening.close()
        _answer(line)
        os._exit(0)


def _reap():
    """Let go of helpers that have ended."""
    try:
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass
    except ChildProcessError:
        pass


def _answer(line):
    """Fork the command, wait for it, and tell its exit status."""
    head, streams, _, _ = socket.recv_fds(line, 4, 2)
    message = _received(line, int.from_bytes(head, "big"))
    child = os.fork()
    if not child:
        _run(json.loads(message), streams)
    line.sendall(child.to_bytes(4, "big"))
    status = os.waitpid(child, 0)[1]
    line.sendall(str(os.waitstatus_to_exitcode(status)).encode())


def _run(asked, streams):
    nothing = os.open(os.devnull, os.O_RDONLY)
    for number, stream in enumerate((nothing, *streams)):
        os.dup2(stream, number)
    os.environ.clear()
    os.environ.update(asked["env"])
    os.chdir(asked["cwd"])
    sys.argv = asked["argv"]
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


if __name__ == "__main__":
    _serve(sys.argv[1])
