"""One image in a running program: own processor time over a bare call of the same bytes.

``python -m benchmarks looking [--quick]``. The service runs in a process of its own; both ways use a kept connection.
"""

import io
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import urllib3
from PIL import Image

from dotledger import open_service
from dotledger.services.service_description import parse_description
from tests.sending.helpers import TEXT

SERVER = """
import json, sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
BODY = json.dumps({"tags": [{"name": "night"}], "things": [{"name": "bell", "sure": 0.9, "box": [1, 1, 5, 5]}] * 3}).encode()
class Quiet(BaseHTTPRequestHandler):
    protocol_version, wbufsize, disable_nagle_algorithm = "HTTP/1.1", 1 << 16, True
    def do_POST(self):
        self.rfile.read(int(self.headers["Content-Length"]))
        self.send_response(200); self.send_header("Content-Length", str(len(BODY)))
        self.send_header("Content-Type", "application/json"); self.end_headers(); self.wfile.write(BODY); self.wfile.flush()
    def log_message(self, *args): pass
server = ThreadingHTTPServer(("127.0.0.1", 0), Quiet); print(server.server_port, flush=True); server.serve_forever()
"""


def picture(number):
    buffer = io.BytesIO()
    Image.effect_noise((320, 240), 20).convert("RGB").save(buffer, "JPEG", dpi=(number + 1, 1))
    return buffer.getvalue()


def cpu(function, images):
    start = time.process_time()
    for data in images:
        function(data)
    return (time.process_time() - start) / len(images) * 1000


def main(*, quick):
    """Print milliseconds of own processor time for an image."""
    rounds = [[picture(f"{r}/{n}") for n in range(200 if quick else 1000)] for r in range(3)]
    server = subprocess.Popen([sys.executable, "-c", SERVER], stdout=subprocess.PIPE, text=True)
    try:
        port = server.stdout.readline().strip()
        described = parse_description(TEXT.replace("127.0.0.1:1/", f"127.0.0.1:{port}/"))
        pool = urllib3.PoolManager()
        address = f"http://127.0.0.1:{port}/north/look"
        bare = min(
            cpu(
                lambda data: pool.request("POST", address, body=data, headers={"X-Key": "k"}),
                images,
            )
            for images in rounds
        )
        with open_service(described, key="k") as service:
            assert service.look(picture("first")).outcome == "found"
            without = min(cpu(service.look, images) for images in rounds)
        with (
            tempfile.TemporaryDirectory() as home,
            open_service(described, Path(home) / "l.ledger", key="k") as service,
        ):
            assert service.look(picture("first")).outcome == "found"
            kept = min(cpu(service.look, images) for images in rounds)
    finally:
        server.kill()
    print(
        f"own processor time for an image over a bare call of {bare:.2f} ms: {without - bare:.2f} ms "
        f"without a ledger (at most 0.6), {kept - bare:.2f} ms with one (at most 1.0)"
    )
