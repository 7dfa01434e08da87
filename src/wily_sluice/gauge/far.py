"""The far end of a measurement of rates, over HTTP/1.1: sends and receives at the full rate of the line.

Requests are signed with the shared key (docs/gauge.md); without the key, a client gets only a challenge. A challenge is
signed itself and not stored, so strangers who ask for many take nothing from anybody. A session begins with the first
request that is signed for its challenge, and lasts no longer than LONGEST_SESSION.

- `GET /gauge/challenge`: a number to sign with, as JSON
- `GET /gauge/down`: sends bytes, until the client closes or LONGEST has passed
- `POST /gauge/up`: receives bytes
- `GET /gauge/taken`: the segments received in the session, as `[nanoseconds, segments, bytes]` every SAMPLE
- `GET /gauge/small`: one byte
- `POST /gauge/order`: an order of a proof, as JSON (`proofs`), if these are served; its body is signed too
"""

import asyncio
import hmac
import json
import os
import secrets
import time
from collections.abc import Awaitable, Callable
from hashlib import sha256
from typing import Final

from aiohttp import web

from wily_sluice.gauge.proofs import Proofs, Refused
from wily_sluice.gauge.segments import Segments
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Size

HTTP_PORT: Final = 8862
SCHEME: Final = "Gauge"
MOST_SESSIONS = 32
MOST_TRANSFERS = 64  # at once, of all sessions
LONGEST: Nanoseconds = 120 * SECOND  # one transfer
LONGEST_SESSION: Nanoseconds = 900 * SECOND
SAMPLE: Nanoseconds = 50 * MILLISECOND
CHUNK: Size = 1 << 18
MARK, CHALLENGE = 32, 80  # characters of a challenge's own signature, and of all of it
ORDER: Final = "/gauge/order"
LARGEST_ORDER: Size = 65_536
NEVER_KEPT = {"Cache-Control": "no-store, no-transform", "Content-Type": "application/octet-stream"}


def proof(key: bytes, challenge: str, method: str, path: str, body: bytes = b"") -> str:
    """The signature of a request: HMAC-SHA-256 (RFC 2104), in hex; of an order, with the digest of its body."""
    signed = f"{challenge} {method} {path}" + (f" {sha256(body).hexdigest()}" if body else "")
    return hmac.digest(key, signed.encode(), sha256).hex()


def authorization(key: bytes, challenge: str, method: str, path: str, body: bytes = b"") -> dict[str, str]:
    """The header of a signed request (RFC 9110 §11.6.2)."""
    return {"Authorization": f"{SCHEME} {challenge} {proof(key, challenge, method, path, body)}"}


def _bytes(word: str) -> bytes:
    """A word of a header, whatever a stranger wrote."""
    return word.encode("utf-8", "surrogateescape")


def secret_of(key: bytes, challenge: str) -> bytes:
    """What callers of a session show a token of."""
    return hmac.digest(key, f"{challenge} callers".encode(), sha256)


class Session:
    """One measurement: its start, and its traffic."""

    def __init__(self, now: Nanoseconds) -> None:
        self.begun = now
        self.segments = Segments()
        self.samples: list[tuple[Nanoseconds, int, Size]] = []
        self.uploads = 0

    async def sample(self) -> None:
        """Note how much has come, as long as something comes."""
        while self.uploads:
            self.samples.append((time.monotonic_ns(), *self.segments.total()))
            await asyncio.sleep(SAMPLE / SECOND)


async def _body(request: web.Request) -> bytes:
    """The body of an order; it can be read again."""
    if request.content_length is None or request.content_length > LARGEST_ORDER:
        raise web.HTTPRequestEntityTooLarge(LARGEST_ORDER, request.content_length or 0)
    return await request.read()


Handler = Callable[[web.Request, Session], Awaitable[web.StreamResponse]]


class FarEnd:
    """Answers requests; those of proofs if `proofs` is given."""

    def __init__(self, key: bytes, proofs: Proofs | None = None) -> None:
        self._key = key
        self._own = secrets.token_bytes(32)  # signs challenges
        self._proofs = proofs
        self._sessions: dict[str, Session] = {}
        self._filling = os.urandom(CHUNK)  # nothing on the way can make it smaller
        self._transfers = 0
        self._samplers: set[asyncio.Task[None]] = set()
        self.refused = 0
        self.measured = 0

    def application(self) -> web.Application:
        """What a server serves."""
        application = web.Application(client_max_size=1 << 62)
        application.router.add_get("/gauge/challenge", self._challenge)
        application.router.add_get("/gauge/down", self._known(self._down))
        application.router.add_post("/gauge/up", self._known(self._up))
        application.router.add_get("/gauge/taken", self._known(self._taken))
        application.router.add_get("/gauge/small", self._known(self._small))
        application.router.add_post(ORDER, self._known(self._order))
        return application

    async def _challenge(self, _: web.Request) -> web.StreamResponse:
        number = f"{secrets.token_hex(16)}{time.monotonic_ns():016x}"
        challenge = f"{number}{self._mark(number)}"
        return web.json_response({"challenge": challenge}, headers={"Cache-Control": "no-store"})

    def _mark(self, number: str) -> str:
        return hmac.digest(self._own, _bytes(number), sha256).hex()[:MARK]

    def _begun(self, challenge: str) -> Nanoseconds | None:
        """When a challenge was made, if it was made here and is not too old."""
        number, mark = challenge[:-MARK], challenge[-MARK:]
        if len(challenge) != CHALLENGE or not hmac.compare_digest(_bytes(mark), self._mark(number).encode()):
            return None
        begun = int(number[32:], 16)
        return begun if time.monotonic_ns() - begun < LONGEST_SESSION else None

    def _session(self, challenge: str, begun: Nanoseconds) -> Session:
        """The session of a signed request."""
        session = self._sessions.get(challenge)
        if session is None:
            now = time.monotonic_ns()
            self._sessions = {
                name: other for name, other in self._sessions.items() if now - other.begun < LONGEST_SESSION
            }
            if len(self._sessions) >= MOST_SESSIONS:
                raise web.HTTPServiceUnavailable(text="too many measurements at once\n")
            session = self._sessions[challenge] = Session(begun)
            self.measured += 1
        return session

    def _known(self, handler: Handler) -> Callable[[web.Request], Awaitable[web.StreamResponse]]:
        """Of those who have the key."""

        async def answer(request: web.Request) -> web.StreamResponse:
            scheme, _, rest = request.headers.get("Authorization", "").partition(" ")
            challenge, _, signature = rest.partition(" ")
            begun = self._begun(challenge)
            if begun is None or scheme != SCHEME:
                self.refused += 1
                raise web.HTTPUnauthorized(headers={"WWW-Authenticate": SCHEME})
            body = await _body(request) if request.path == ORDER else b""
            right = proof(self._key, challenge, request.method, request.path, body)
            if not hmac.compare_digest(_bytes(signature), right.encode()):
                self.refused += 1
                raise web.HTTPForbidden(text="it is not signed with this key\n")
            session = self._session(challenge, begun)
            if self._transfers >= MOST_TRANSFERS:
                raise web.HTTPServiceUnavailable(text="too many transfers at once\n")
            self._transfers += 1
            try:
                return await handler(request, session)
            finally:
                self._transfers -= 1

        return answer

    async def _down(self, request: web.Request, _: Session) -> web.StreamResponse:
        response = web.StreamResponse(headers=NEVER_KEPT)
        await response.prepare(request)
        until = time.monotonic_ns() + LONGEST
        try:
            while time.monotonic_ns() < until:
                await response.write(self._filling)
        except (ConnectionError, TimeoutError):
            pass
        return response

    async def _up(self, request: web.Request, session: Session) -> web.StreamResponse:
        end = request.transport.get_extra_info("socket") if request.transport is not None else None
        if end is None:
            raise web.HTTPServiceUnavailable(text="the connection is closed\n")
        session.segments.add(end)
        session.uploads += 1
        if session.uploads == 1:
            self._samplers.add(task := asyncio.create_task(session.sample()))
            task.add_done_callback(self._samplers.discard)
        until = time.monotonic_ns() + LONGEST
        try:
            async for _ in request.content.iter_any():
                if time.monotonic_ns() > until:
                    break
        except (ConnectionError, TimeoutError):
            pass
        finally:
            session.uploads -= 1
            session.segments.remove(end)
        return web.Response(text="")

    async def _taken(self, _: web.Request, session: Session) -> web.StreamResponse:
        samples, session.samples = session.samples, []
        return web.json_response({"taken": samples, "now": time.monotonic_ns()})

    async def _order(self, request: web.Request, _: Session) -> web.StreamResponse:
        if self._proofs is None or request.transport is None:
            raise web.HTTPNotFound(text="no proofs are served here: `sluice gauge serve --proofs RATE`\n")
        challenge = request.headers["Authorization"].split()[1]
        address = request.transport.get_extra_info("sockname")[0].removeprefix("::ffff:")
        try:
            what = json.loads(await _body(request))
            answer = await self._proofs.order(challenge, address, secret_of(self._key, challenge), what)
        except ValueError:
            raise web.HTTPBadRequest(text="it is not JSON\n") from None
        except Refused as reason:
            raise web.HTTPConflict(text=f"{reason}\n") from None
        return web.json_response({"answer": answer}, headers={"Cache-Control": "no-store"})

    async def _small(self, _: web.Request, __: Session) -> web.StreamResponse:
        return web.Response(body=b".", headers=NEVER_KEPT)
