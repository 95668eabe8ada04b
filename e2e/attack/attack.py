"""Attacks a Havrel of its own: memory at each door, bodies that dribble in, and every operation with made-up requests.

Usage: attack.py PROGRAM   (with the packages of requirements.txt; used by ./havrel test --long)
"""

import concurrent.futures
import json
import os
import pathlib
import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time

import requests

PROGRAM = pathlib.Path(sys.argv[1]).resolve()
CODE = "ATTA-CKAT-TACK"
# Memory that one attack may add while it lasts, and that may remain ten seconds later, in MB.
PEAK, LEFT = 400, 150
failures: list[str] = []


def check(name: str, good: bool, words: str) -> None:
    print(f"{'ok  ' if good else 'FAIL'} {name}: {words}", flush=True)
    if not good:
        failures.append(name)


class Server:
    """The real program on an empty folder."""

    def __init__(self) -> None:
        self.folder = tempfile.mkdtemp(prefix="havrel-attack-")
        os.chmod(self.folder, 0o755)
        self.process = subprocess.Popen(
            [PROGRAM, "demo", "--data", self.folder, "--port", "8790", "--past", "1", "--first-code", CODE],
            stdout=subprocess.PIPE,
            stderr=open("/tmp/havrel-attack.log", "w"),
            text=True,
        )
        for line in self.process.stdout:
            if found := re.search(r"open (http://[^/ ]+)", line):
                self.url = found.group(1)
                return
        raise SystemExit("the program did not start; see /tmp/havrel-attack.log")

    def memory(self) -> float:
        """Resident memory in MB."""
        text = pathlib.Path(f"/proc/{self.process.pid}/status").read_text()
        return int(re.search(r"VmRSS:\s+(\d+)", text).group(1)) / 1024

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(60)
        shutil.rmtree(self.folder, ignore_errors=True)


def door(server: Server, name: str, attack) -> None:
    """Runs an attack and looks at memory meanwhile and ten seconds later; the server must answer all the while."""
    before, peak, slowest = server.memory(), 0.0, 0.0
    with concurrent.futures.ThreadPoolExecutor(1) as pool:
        done = pool.submit(attack)
        while not done.done():
            peak = max(peak, server.memory())
            began = time.monotonic()
            requests.get(f"{server.url}/api/health", timeout=10)
            slowest = max(slowest, time.monotonic() - began)
            time.sleep(0.1)
        said = done.result()
    time.sleep(10)
    after = server.memory()
    words = f"{before:.0f} MB before, {peak:.0f} at the peak, {after:.0f} after; health took {slowest:.2f} s at most; {said}"
    check(name, peak - before < PEAK and after - before < LEFT and slowest < 2, words)


def statuses(answers) -> str:
    """How often each status came."""
    counted: dict[int, int] = {}
    for answer in answers:
        counted[answer] = counted.get(answer, 0) + 1
    return ", ".join(f"{count} × {status}" for status, count in sorted(counted.items()))


def crowd(many: int, send):
    with concurrent.futures.ThreadPoolExecutor(many) as pool:
        return statuses(pool.map(send, range(many)))


def dribble(server: Server) -> None:
    """Two hundred bodies that send a byte now and then."""
    host, port = server.url.removeprefix("http://").split(":")
    head = f"POST /api/session HTTP/1.1\r\nhost: {host}:{port}\r\ncontent-type: application/json\r\ncontent-length: 500\r\n\r\n"
    held = []
    for _ in range(200):
        connection = socket.create_connection((host, int(port)))
        connection.sendall(head.encode() + b"{")
        held.append(connection)
    began = time.monotonic()
    open_still = len(held)
    while open_still and time.monotonic() - began < 60:
        time.sleep(1)
        for connection in held[:]:
            try:
                connection.settimeout(0.01)
                if connection.recv(4096):
                    held.remove(connection)
                    connection.close()
            except TimeoutError:
                pass
            except OSError:
                held.remove(connection)
        open_still = len(held)
    took = time.monotonic() - began
    check("bodies that dribble in", open_still == 0 and took < 30, f"{open_still} of 200 still held after {took:.0f} s")


def fuzz(server: Server, cookie: str, revision: int) -> None:
    """Every operation of the description with made-up requests: answers are of the kinds that it names."""
    schema = requests.get(f"{server.url}/api/openapi.json", timeout=10).json()
    # Signing out would end the attack; made-up tests of connections would knock on doors of this machine.
    for path, method in [("/api/session", "delete"), ("/api/connections/test", "post"), ("/api/connections/{id}/scan", "post")]:
        schema["paths"].get(path, {}).pop(method, None)
    file = pathlib.Path(server.folder) / "openapi.json"
    file.write_text(json.dumps(schema))
    checks = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"
    command = [pathlib.Path(sys.executable).parent / "schemathesis", "run", file, "--url", server.url, "--checks", checks]
    command += ["--header", f"Cookie: {cookie}", "--header", f"If-Match: {revision}", "--phases", "examples,coverage,fuzzing"]
    command += ["--max-examples", os.environ.get("HAVREL_EXAMPLES", "40"), "--seed", "7", "--rate-limit", "150/s"]
    command += ["--suppress-health-check", "all", "--warnings", "off", "--request-timeout", "30", "--continue-on-failure"]
    # In its folder: the tool leaves notes for its next run where it is started.
    done = subprocess.run(command, capture_output=True, text=True, cwd=server.folder)
    pathlib.Path("/tmp/havrel-fuzz.log").write_text(done.stdout + done.stderr)
    tail = done.stdout.strip().splitlines()[-25:]
    check("every operation with made-up requests", done.returncode == 0, "see /tmp/havrel-fuzz.log\n  " + "\n  ".join(tail))
    health = requests.get(f"{server.url}/api/health", timeout=10).json()
    check("nothing failed meanwhile", health["ok"], json.dumps(health))


def main() -> None:
    server = Server()
    try:
        person = requests.Session()
        first = {"name": "Plant engineer", "password": "kelp-and-salt", "code": CODE}
        assert person.post(f"{server.url}/api/session/first", json=first).status_code == 200
        cookie = "; ".join(f"{c.name}={c.value}" for c in person.cookies)
        token = person.post(f"{server.url}/api/tokens", json={"name": "Attack"}).json()["token"]
        bearer = {"authorization": f"Bearer {token}", "content-type": "application/json"}
        url = server.url
        door(server, "120 sign-ins at once", lambda: crowd(
            120, lambda n: requests.post(f"{url}/api/session", json={"name": f"n{n}", "password": "x" * 20}, timeout=60).status_code))
        packed = {"content-encoding": "gzip", "content-type": "application/json"}
        door(server, "twelve packed bodies", lambda: crowd(
            12, lambda _: requests.post(f"{url}/api/session", data=b"\x1f\x8b" + b"\0" * 1_000_000, headers=packed, timeout=60).status_code))
        file = f"{url}/api/files?what=tag"
        csv = {"content-type": "text/csv"}
        rows = ("place,name\n" + "a,b,c\n" * 800_000).encode()
        names = ("place,name,unit\n" + "".join(f"Nowhere,Tag {n},m\n" for n in range(190_000))).encode()
        for name, body in [("a CSV of 5 MB", rows), ("a CSV of commas", b"," * 5_000_000), ("a CSV of 190,000 new tags", names)]:
            def compare(body=body):
                started = person.post(file, data=body, headers=csv, timeout=60)
                if started.status_code != 200:
                    return started.status_code
                one = f"{url}/api/files/{started.json()['id']}"
                while (seen := person.get(one, timeout=60).json())["state"] == "working":
                    time.sleep(0.2)
                person.delete(one)
                return seen["state"]
            door(server, name, compare)
        wrong = b"[" + b"0," * 8_000_000 + b"0]"
        door(server, "a push of wrong items", lambda: requests.post(f"{url}/api/push", data=wrong, headers=bearer, timeout=120).status_code)
        tags = [t["id"] for t in person.get(f"{url}/api/items/tag?limit=200").json()["items"]][:50]
        heavy = {"tags": tags, "from": "2000-01-01T00:00:00Z", "to": "2030-01-01T00:00:00Z", "parts": 10_000}
        door(server, "six questions of 50 tags", lambda: crowd(
            6, lambda n: person.post(f"{url}/api/history/{['raw', 'pixels', 'spans'][n % 3]}",
                                     json=heavy | {"parts": [10_000, 800, 100][n % 3]}, timeout=120).status_code))
        dribble(server)
        revision = person.get(f"{url}/api/health").json()["revision"]
        fuzz(server, cookie, revision)
    finally:
        server.stop()
    if failures:
        sys.exit(f"{len(failures)} attacks did harm: {', '.join(failures)}")


main()
