"""A Millrace site over HTTP: its pages, its editor, its owner's page, its agent."""

from __future__ import annotations

import threading
from urllib.parse import parse_qs

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import HTMLResponse, PlainTextResponse, Response
from starlette.routing import Route

from windbreak.links.visiting import PASS
from windbreak.standins.agent import LinkLineRefused, MillraceAgent
from windbreak.standins.millrace import MillraceSite

_OWNER = """<!doctype html><html lang=en><title>Settings · Windbreak agent</title>
<h1>Windbreak agent</h1><p>{said}</p>
<form method=post><label>Line from the console <input name=line size=60></label>
<button>Link</button></form>
<form method=post action=/owner/unlink><button>End the link</button></form>
<form method=post action=/owner/identity><button>Give this copy an id of its own</button></form>"""


def site_app(site: MillraceSite, agent: MillraceAgent) -> Starlette:
    """The application of one site."""

    def owner(request: Request) -> Response:
        linked = agent.fact("service") is not None
        state = "A key of Windbreak is in place." if linked else "Not linked."
        return HTMLResponse(_OWNER.format(said=state))

    async def paste(request: Request) -> Response:
        fields = parse_qs((await request.body()).decode())
        try:
            agent.paste(fields.get("line", [""])[0])
        except LinkLineRefused as error:
            return PlainTextResponse(str(error), 400)
        return PlainTextResponse("The line was taken. Go back to Windbreak and link the site.")

    def unlink(request: Request) -> Response:
        agent.unlink()
        return PlainTextResponse("The link is ended.")

    def identity(request: Request) -> Response:
        agent.renew()
        return PlainTextResponse("This site has an id of its own now. Paste a new line to link it.")

    async def call(request: Request) -> Response:
        if agent.faults.silent:
            return PlainTextResponse("Not found", 404)
        called, body = request.path_params["call"], await request.body()
        headers = {k.lower(): v for k, v in request.headers.items()}
        if len(body) > 1024 * float(agent.faults.all().get("body", "inf")):
            return HTMLResponse("<h1>413 Request Entity Too Large</h1>", 413)
        if agent.faults.of("unheard", called):
            return HTMLResponse("<h1>Not allowed here</h1>", 405)
        if (seconds := agent.faults.of("late", called)) is not None:
            args = (called, str(request.url), headers, body)
            threading.Timer(float(seconds), agent.answer, args).start()
            return HTMLResponse("<h1>502 Bad Gateway</h1>", 502)
        status, text, signed = await run_in_threadpool(
            agent.answer, called, str(request.url), headers, body
        )
        if agent.faults.silent:
            return PlainTextResponse("Not found", 404)  # it went in the middle of the call
        answer = Response(text, status, {**signed, "content-type": "application/json"})
        if agent.faults.once("cut", called):
            answer.headers["content-length"] = str(len(text) + 100)
        return answer

    def editor(request: Request) -> Response:
        shown = agent.memory.holds_pass(request.headers.get(PASS, ""))
        if not shown and not agent.take_pass(request.query_params.get("pass", "")):
            return PlainTextResponse("This looking pass is spent.", 403)
        status, text = site.editor(request.query_params.get("page", ""))
        return HTMLResponse(text, status)

    def order(request: Request) -> Response:
        if site.maintenance.exists():
            return PlainTextResponse("Back soon", 503, {"retry-after": "120"})
        site.order()
        return PlainTextResponse("Thank you.")

    def site_map(request: Request) -> Response:
        base = str(request.base_url).rstrip("/")
        urls = "".join(f"<url><loc>{base}{place}</loc></url>" for place in site.places())
        text = f'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{urls}</urlset>'
        return Response(text, media_type="application/xml")

    def page(request: Request) -> Response:
        if agent.faults.broken:
            return HTMLResponse("<title>Fault</title><p>It could not be shown.</p>", 500)
        agent.faults.hang()
        if (stumbled := agent.faults.stumbles()) is not None:
            return HTMLResponse("<h1>It could not be passed on</h1>", stumbled)
        past = "no-cache" in request.headers.get("cache-control", "")
        shown = agent.memory.holds_pass(request.headers.get(PASS, ""))
        status, text = site.page(request.url.path, past_caches=past, past_page=shown)
        return HTMLResponse(text, status)

    return Starlette(
        routes=[
            Route("/owner/link", owner),
            Route("/owner/link", paste, methods=["POST"]),
            Route("/owner/unlink", unlink, methods=["POST"]),
            Route("/owner/identity", identity, methods=["POST"]),
            Route("/_windbreak/{call}", call, methods=["POST"]),
            Route("/editor", editor),
            Route("/order", order, methods=["POST"]),
            Route("/sitemap.xml", site_map),
            Route("/{path:path}", page),
        ]
    )
