"""What git runs in place of upload-pack or receive-pack: it hands its open files to the door and waits for the end.

A program of its own that needs nothing but Python, so that it starts fast: PLACE PROGRAM REPOSITORY.
"""

import json
import os
import socket
import sys


def main(place: str, program: str, repository: str) -> int:
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as line:
            folder, _, name = place.rpartition("/")
            at = os.open(folder, os.O_PATH | os.O_DIRECTORY)
            line.connect(f"/proc/self/fd/{at}/{name}")  # an address may have 107 characters only
            wish = {"op": "serve", "program": program, "repository": repository}
            socket.send_fds(line, [json.dumps(wish).encode()], [0, 1, 2])
            answer = json.loads(line.recv(1 << 16) or b'{"error": "the door closed"}')
    except OSError as error:
        answer = {"error": f"the door to this machine's repositories is shut: {error}"}
    if "error" in answer:
        sys.stderr.write(f"{answer['error']}\n")
    return int(answer.get("status", 1))


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:4]))
