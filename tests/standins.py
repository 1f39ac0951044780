"""Stand-ins for what lies outside: a receiver of requests and a mail server, both of a temper of their own."""

from __future__ import annotations

import json
import socketserver
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from email import message_from_bytes
from email.message import Message
from email.policy import default
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any


@dataclass
class Receiver:
    """What came by HTTP; `answers` are given in turn, the last for ever."""

    address: str = ""
    came: list[tuple[str, dict[str, str], Any]] = field(default_factory=list)
    answers: list[tuple[int, dict[str, str], bytes]] = field(default_factory=lambda: [(200, {}, b"thank you")])
    heard: threading.Condition = field(default_factory=threading.Condition)
    let_go: threading.Event = field(default_factory=threading.Event)  # what came to /hang is answered then

    def wait(self, count: int, seconds: float = 60) -> list[Any]:
        """The bodies, when there are so many; fewer when time is over."""
        with self.heard:
            self.heard.wait_for(lambda: len(self.came) >= count, seconds)
            return [body for _, _, body in self.came]


@contextmanager
def receiver() -> Iterator[Receiver]:
    kept = Receiver()

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length", "0")))
            if self.path.startswith("/hang"):
                kept.let_go.wait(900)
            with kept.heard:
                status, headers, text = kept.answers[0] if len(kept.answers) == 1 else kept.answers.pop(0)
                kept.came.append((self.path, dict(self.headers), json.loads(body) if body else None))
                kept.heard.notify_all()
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", str(len(text)))
            self.end_headers()
            with suppress(ConnectionError):  # who asked need not hear all of it
                self.wfile.write(text)

        do_PUT = do_POST

        def log_message(self, *_: object) -> None:
            return None

    with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        kept.address = f"127.0.0.1:{server.server_port}"
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield kept
        kept.let_go.set()
        server.shutdown()


@dataclass
class MailRoom:
    """What came by SMTP (RFC 5321); receivers of `refused` are not taken."""

    address: str = ""
    mails: list[tuple[list[str], Message]] = field(default_factory=list)
    refused: set[str] = field(default_factory=set)


@contextmanager
def mail_room() -> Iterator[MailRoom]:
    kept = MailRoom()

    class Handler(socketserver.StreamRequestHandler):
        def handle(self) -> None:
            def say(text: str) -> None:
                self.wfile.write(text.encode() + b"\r\n")

            say("220 mail room")
            to: list[str] = []
            while line := self.rfile.readline():
                word = line.decode("latin-1").strip()
                if word.upper().startswith("RCPT"):
                    who = word.split("<", 1)[1].split(">", 1)[0]
                    if who in kept.refused:
                        say("550 nobody of that name")
                        continue
                    to.append(who)
                if word.upper() == "DATA":
                    say("354 go on")
                    data = b""
                    while (piece := self.rfile.readline()) not in (b".\r\n", b""):
                        data += piece.removeprefix(b".") if piece.startswith(b"..") else piece
                    kept.mails.append((to, message_from_bytes(data, policy=default)))
                    to = []
                if word.upper() == "QUIT":
                    say("221 bye")
                    return
                say("250 well")

    class Server(socketserver.ThreadingTCPServer):
        allow_reuse_address = daemon_threads = True

    with Server(("127.0.0.1", 0), Handler) as server:
        kept.address = f"127.0.0.1:{server.server_address[1]}"
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield kept
        server.shutdown()
