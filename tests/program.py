"""The program as it is run from a shell: a process for each command, forked from one that has loaded its libraries.

Loading takes ten times as long as most commands do. What a shell itself does (streams, signals, a folder that is gone) is
tried on processes that begin from nothing.
"""

import atexit
import functools
import json
import os
import socket
import subprocess
import sys
import tempfile
from pathlib import Path

LOADED = (
    "yarvic.cli",
    "yarvic.cli_diff",
    "yarvic.cli_layout",
    "yarvic.core.checks.of_file",
    "yarvic.core.checks.of_sheet",
    "yarvic.core.evidence.dyno",
    "yarvic.core.formats.contents",
    "yarvic.state.baselines",
    "yarvic.state.verifying",
)
MOST_MESSAGE = 1 << 18


def run(*arguments, env, cwd=None):
    """The command with these arguments, with what it told, as subprocess.CompletedProcess."""
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        asked = {"arguments": arguments, "env": env, "cwd": str(cwd or Path.cwd())}
        server = _server()
        socket.send_fds(server, [json.dumps(asked).encode()], [out.fileno(), err.fileno()])
        code = json.loads(server.recv(MOST_MESSAGE))
        told = [file.seek(0) or file.read().decode() for file in (out, err)]
    return subprocess.CompletedProcess(arguments, code, *told)


@functools.cache
def _server():
    ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    process = subprocess.Popen(
        [sys.executable, __file__, str(theirs.fileno())], pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL
    )
    theirs.close()

    def end():
        ours.close()
        process.wait()

    atexit.register(end)
    return ours


def _serve(control):
    import importlib

    for name in LOADED:
        importlib.import_module(name)
    while True:
        message, files, _, _ = socket.recv_fds(control, MOST_MESSAGE, 2)
        if not message:
            return
        child = os.fork()
        if child == 0:
            control.close()
            _run(json.loads(message), *files)
        for file in files:
            os.close(file)
        _, status = os.waitpid(child, 0)
        control.send(json.dumps(os.waitstatus_to_exitcode(status)).encode())


def _run(asked, out, err):
    """In the process of a command: what the interpreter does about a program. It never comes back."""
    from yarvic.cli import main

    code = 1
    try:
        os.chdir(asked["cwd"])
        os.environ.clear()
        os.environ.update(asked["env"])
        for file, standard in ((out, 1), (err, 2)):
            os.dup2(file, standard)
            os.close(file)
        sys.argv = ["yarvic", *asked["arguments"]]
        try:
            main()
            code = 0
        except SystemExit as ended:
            code = ended.code or 0
        atexit._run_exitfuncs()
        sys.stdout.flush()
        sys.stderr.flush()
    finally:
        if sys.exc_info()[0] is not None:
            sys.excepthook(*sys.exc_info())
            sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    _serve(socket.socket(fileno=int(sys.argv[1])))
