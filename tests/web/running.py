"""Processes of the application for tests that need the real server."""

from __future__ import annotations

import re
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import httpx

ROOT = Path(__file__).parents[2]
PASSWORD = "long-enough-word"
START = "from veduta.web import installation\ninstallation.start()\n"


def run_code(code: str, environment: dict[str, str]) -> str:
    """What some code of Veduta prints in a process of its own."""
    command = [sys.executable, "-c", START + code]
    done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True)
    if done.returncode:
        raise AssertionError(done.stderr)
    return done.stdout


def start_server(test: Any, environment: dict[str, str]) -> str:
    """Start one process of the web server, for a test or a class of tests. Returns its address."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    process = subprocess.Popen([sys.executable, "manage.py", "web", f"--port={port}"], cwd=ROOT, env=environment)
    clean_up = test.addClassCleanup if isinstance(test, type) else test.addCleanup
    clean_up(process.wait)
    clean_up(process.terminate)
    for _ in range(200):
        try:
            httpx.get(f"http://127.0.0.1:{port}/sign-in/", timeout=20)
            return f"http://127.0.0.1:{port}"
        except httpx.TransportError:
            time.sleep(0.1)
    raise AssertionError("The server did not start.")


def token_of(client: httpx.Client, address: str) -> dict[str, str]:
    """What the form of a page sends besides what is typed."""
    found = re.search(r'name="csrfmiddlewaretoken"\s+value="([^"]+)', client.get(address).text)
    return {"csrfmiddlewaretoken": found[1]}


def signed_in(test: Any, server: str, username: str) -> httpx.Client:
    """A browser, as it were, in which somebody has signed in."""
    client = httpx.Client(follow_redirects=True, timeout=60)
    test.addCleanup(client.close)
    address = f"{server}/sign-in/"
    form = {"username": username, "password": PASSWORD, **token_of(client, address)}
    test.assertEqual(client.post(address, data=form).status_code, 200)
    return client
