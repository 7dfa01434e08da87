"""The far end of a measurement of rates, over HTTP/1.1: sends and receives at the full rate of the line.

Requests are signed with the shared key (docs/gauge.md); without the key, a client gets only a challenge. A challenge is
signed itself and not stored, so strangers who ask for many take nothing from anybody. A session begins with the first
request that is signed for its challenge, and lasts no longer than LONGEST_SESSION. A connection without one is a
stranger's: it ends after STRANGER_LEAVES, and when its site or all together have too many, the oldest ends.

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
from aiohttp.web_protocol import RequestHandler

from wily_sluice.gauge.proofs import Proofs, Refused
from wily_sluice.gauge.reflector import network_of
from wily_sluice.gauge.segments import Segments
from wily_sluice.units import MILLISECOND, SECOND, Nanoseconds, Size

HTTP_PORT: Final = 8862
SCHEME: Final = "Gauge"
MOST_SESSIONS = 32
MOST_TRANSFERS = 64  # at once, of all sessions
MOST_STRANGERS, MOST_OF_A_SITE = 256, 64  # connections
STRANGER_LEAVES = 10.0  # seconds
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


async def _body(request: web.BaseRequest) -> bytes:
    """The body of an order; it can be read again."""
    if request.content_length is None or request.content_length > LARGEST_ORDER:
        raise web.HTTPRequestEntityTooLarge(LARGEST_ORDER, request.content_length or 0)
    return await request.read()


Handler = Callable[[web.BaseRequest, Session], Awaitable[web.StreamResponse]]


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
        self._strangers: dict[asyncio.Transport, str] = {}  # and their sites, the oldest first
        self.refused = 0
        self.measured = 0

    def server(self) -> "Server":
        """What serves connections."""
        return Server(self)

    async def answer(self, request: web.BaseRequest) -> web.StreamResponse:
        """Answer a request."""
        match request.method, request.path:
            case "GET", "/gauge/challenge":
                return await self._challenge(request)
            case "GET", "/gauge/down":
                return await self._to_friend(request, self._down)
            case "POST", "/gauge/up":
                return await self._to_friend(request, self._up)
            case "GET", "/gauge/taken":
                return await self._to_friend(request, self._taken)
            case "GET", "/gauge/small":
                return await self._to_friend(request, self._small)
            case "POST", "/gauge/order":
                return await self._to_friend(request, self._order)
        raise web.HTTPNotFound

    def came(self, transport: asyncio.Transport) -> None:
        """Somebody has connected, and is a stranger until a signed request."""
        peer = transport.get_extra_info("peername")
        site = network_of(peer[0]) if peer else ""
        self._strangers[transport] = site
        of_site = [other for other, where in self._strangers.items() if where == site]
        if len(of_site) > MOST_OF_A_SITE:
            of_site[0].abort()
        elif len(self._strangers) > MOST_STRANGERS:
            next(iter(self._strangers)).abort()
        asyncio.get_running_loop().call_later(STRANGER_LEAVES, self._leave, transport)

    def gone(self, transport: asyncio.Transport) -> None:
        """A connection has ended."""
        self._strangers.pop(transport, None)

    def _leave(self, transport: asyncio.Transport) -> None:
        if self._strangers.pop(transport, None) is not None:
            transport.abort()

    async def _challenge(self, _: web.BaseRequest) -> web.StreamResponse:
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

    async def _to_friend(self, request: web.BaseRequest, handler: Handler) -> web.StreamResponse:
        """Of those who have the key."""
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
        if request.transport is not None:
            self._strangers.pop(request.transport, None)
        session = self._session(challenge, begun)
        if self._transfers >= MOST_TRANSFERS:
            raise web.HTTPServiceUnavailable(text="too many transfers at once\n")
        self._transfers += 1
        try:
            return await handler(request, session)
        finally:
            self._transfers -= 1

    async def _down(self, request: web.BaseRequest, _: Session) -> web.StreamResponse:
        response = web.StreamResponse(headers=NEVER_KEPT)
        await response.prepare(request)
        until = time.monotonic_ns() + LONGEST
        try:
            while time.monotonic_ns() < until:
                await response.write(self._filling)
        except (ConnectionError, TimeoutError):
            pass
        return response

    async def _up(self, request: web.BaseRequest, session: Session) -> web.StreamResponse:
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

    async def _taken(self, _: web.BaseRequest, session: Session) -> web.StreamResponse:
        samples, session.samples = session.samples, []
        return web.json_response({"taken": samples, "now": time.monotonic_ns()})

    async def _order(self, request: web.BaseRequest, _: Session) -> web.StreamResponse:
        if self._proofs is None or request.transport is None:
            raise web.HTTPNotFound(text="no proofs are served here: `sluice gauge serve --proofs RATE`\n")
        challenge = request.headers["Authorization"].split()[1]
        address, port = request.transport.get_extra_info("sockname")[:2]
        at = address.removeprefix("::ffff:"), port
        try:
            what = json.loads(await _body(request))
            answer = await self._proofs.order(challenge, at, secret_of(self._key, challenge), what)
        except ValueError:
            raise web.HTTPBadRequest(text="it is not JSON\n") from None
        except Refused as reason:
            raise web.HTTPConflict(text=f"{reason}\n") from None
        return web.json_response({"answer": answer}, headers={"Cache-Control": "no-store"})

    async def _small(self, _: web.BaseRequest, __: Session) -> web.StreamResponse:
        return web.Response(body=b".", headers=NEVER_KEPT)


class Server(web.Server):
    """Tells a far end who comes and goes."""

    def __init__(self, far: FarEnd) -> None:
        super().__init__(far.answer, access_log=None)
        self._far = far

    def connection_made(self, handler: RequestHandler, transport: asyncio.Transport) -> None:
        """A new connection."""
        super().connection_made(handler, transport)
        self._far.came(transport)

    def connection_lost(self, handler: RequestHandler, exc: BaseException | None = None) -> None:
        """One that has ended."""
        if handler.transport is not None:
            self._far.gone(handler.transport)
        super().connection_lost(handler, exc)
