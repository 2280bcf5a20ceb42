"""The command in a process of its own, forked from one that has loaded everything already.

A fresh interpreter takes half a second to load pandas and SciPy; the tests run some hundred
commands. Each still has its own process, working directory, environment and streams. Where an
option of the interpreter matters, or nothing can be forked, a fresh interpreter runs it.
"""

import atexit
import json
import os
import shutil
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
    asked = {"argv": ["-c", *arguments], "cwd": str(cwd or Path.cwd()), "env": {**os.environ, **{k: str(v) for k, v in changed.items()}}}  # fmt: skip
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err, socket.socket(socket.AF_UNIX) as line:  # fmt: skip
        line.settimeout(_TIMEOUT)
        line.connect(_server())
        message = json.dumps(asked).encode()
        socket.send_fds(line, [len(message).to_bytes(4, "big")], [out.fileno(), err.fileno()])
        line.sendall(message)
        answer = line.recv(8)
        out.seek(0)
        err.seek(0)
        texts = [stream.read().decode("utf-8", "replace").replace("\r\n", "\n") for stream in (out, err)]  # fmt: skip
    return subprocess.CompletedProcess(arguments, int(answer or b"-9"), *texts)


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

    import dotledger.cli
    import dotledger.face
    import dotledger.ledger.store
    import dotledger.report.terminal.measures
    import dotledger.weighing  # noqa: F401

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
    size, message = int.from_bytes(head, "big"), b""
    while len(message) < size:
        message += line.recv(size - len(message))
    child = os.fork()
    if not child:
        _run(json.loads(message), streams)
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
