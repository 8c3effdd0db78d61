"""What goes out: mail, web hooks, calendar, CSV, CycloneDX, OpenMetrics; and a copy of it all."""

import csv
import http.server
import io
import json
import socket
import tempfile
import threading
from datetime import datetime, timedelta
from email import message_from_bytes
from email.policy import default
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator
from icalendar import Calendar
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from tests.operations.within import RHONA, SOAK, WithContext, catch_up, look_again
from windbreak.core.values.hooks import NewHook
from windbreak.links import signing
from windbreak.notices.mail import MailSettings
from windbreak.operations.administration import backup, exports, instance, outward
from windbreak.operations.context import close, open_context
from windbreak.operations.errors import Refused
from windbreak.operations.findings import digest
from windbreak.operations.runs import runs
from windbreak.operations.sites import sites

PASSPHRASE = "salt and grass and wind"


def fresh(nonce: str, until: datetime) -> bool:
    return False


class _Receiver(http.server.BaseHTTPRequestHandler):
    taken: list[tuple[dict[str, str], bytes]] = []
    status = 200

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["content-length"]))
        self.taken.append(({k.lower(): v for k, v in self.headers.items()}, body))
        self.send_response(self.status)
        self.end_headers()

    def log_message(self, *args: object) -> None:
        pass


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as held:
        return int(held.getsockname()[1])


class Outward(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("tarnsey-harbour")

    def receiver(self) -> str:
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Receiver)
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        _Receiver.taken, _Receiver.status = [], 200
        return f"http://127.0.0.1:{server.server_port}/in"

    def test_the_digest_is_mailed_once_and_names_the_most_urgent_first(self) -> None:
        class Box:
            def __init__(self) -> None:
                self.mails: list[Any] = []

            async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
                self.mails.append(envelope)
                return "250 OK"

        box = Box()
        controller = Controller(box, hostname="127.0.0.1", port=free_port())
        controller.start()
        self.addCleanup(controller.stop)
        port = controller.port
        settings = MailSettings(f"smtp://127.0.0.1:{port}", to="night@saltgrass.example")
        look_again(self.context)
        said = digest.send(self.context, settings, "http://windbreak.example")
        self.assertIn("sent to night@saltgrass.example", said)
        (envelope,) = box.mails
        mail = message_from_bytes(envelope.content, policy=default)
        self.assertIn("findings", str(mail["subject"]))
        text = mail.get_content()  # type: ignore[attr-defined]
        self.assertLess(text.index("HIGH"), text.index("LOW"))
        self.assertIn("windbreak licence enter breakwater --site tarnsey-harbour", text)
        self.assertEqual(
            self.context.store.facts.get("digest_on"), self.context.clock().date().isoformat()
        )

    def test_mail_that_can_not_be_sent_is_told_and_a_password_is_not_sent_in_the_open(self) -> None:
        with self.assertRaises(Refused) as caught:
            digest.send(self.context, MailSettings(), "")
        self.assertEqual(caught.exception.code, "no-mail")
        for server in ("smtp://127.0.0.1:1", "mail.example", "smtp://mail.example:x"):
            with self.subTest(server=server), self.assertRaises(Refused):
                digest.send(self.context, MailSettings(server, to="a@b.example"), "")
        controller = Controller(object(), hostname="127.0.0.1", port=free_port())
        controller.start()
        self.addCleanup(controller.stop)
        port = controller.port
        with self.assertRaises(Refused) as caught:
            settings = MailSettings(
                f"smtp://127.0.0.1:{port}", "rhona", "a-secret", to="a@b.example"
            )
            digest.send(self.context, settings, "")
        self.assertIn("offers no TLS", str(caught.exception))
        self.assertNotIn("a-secret", str(caught.exception) + repr(settings))

    def test_a_web_hook_is_told_signed_and_again_until_it_takes_it(self) -> None:
        url = self.receiver()
        hook = outward.add_hook(
            self.context, NewHook(id="desk", url=url, news=("finding.opened",)), RHONA
        )
        look_again(self.context)
        count = len(self.context.store.deliveries.all(hook="desk"))
        self.assertGreater(count, 2)
        _Receiver.status = 503
        outward.deliver(self.context)
        self.assertEqual(self.context.store.hooks.get("desk").state, "failing")
        self.assertEqual(outward.deliver(self.context), 0)
        _Receiver.status, _Receiver.taken = 204, []
        for delivery in self.context.store.deliveries.all():
            now = self.context.clock()
            self.context.store.deliveries.change(delivery.id, next_at=now)
        outward.deliver(self.context)
        self.assertEqual(len(_Receiver.taken), count)
        self.assertEqual(self.context.store.deliveries.all(state="waiting"), [])
        headers, body = _Receiver.taken[0]
        request = signing.Request("POST", url, headers)
        public = signing.public_from(hook.public_key)
        signing.verify_request(public, request, body, self.context.clock(), fresh, "windbreak-hook")
        with self.assertRaises(signing.SignatureRefused):
            signing.verify_request(
                public, request, body + b" ", self.context.clock(), fresh, "windbreak-hook"
            )
        said = json.loads(body)
        self.assertEqual(said["news"], "finding.opened")
        self.assertIn("headline", said["what"])

    def test_no_news_goes_to_the_address_of_a_site(self) -> None:
        self.site("skerry-light")
        for path in ("/_windbreak/restore", "/news", ""):
            url = f"{self.where['skerry-light']}{path}"
            with self.subTest(path=path), self.assertRaises(Refused) as caught:
                outward.add_hook(self.context, NewHook(id="h", url=url, news=("release",)), RHONA)
            self.assertEqual(caught.exception.code, "site-address")
        self.assertEqual(self.context.store.hooks.all(), [])

    def test_what_nobody_takes_for_a_day_is_given_up(self) -> None:
        url = self.receiver()
        outward.add_hook(self.context, NewHook(id="desk", url=url), RHONA)
        outward.tell(self.context, "release", {"feed": "commons"})
        _Receiver.status = 500
        self.later = timedelta(hours=25)
        outward.deliver(self.context)
        (delivery,) = self.context.store.deliveries.all(hook="desk")
        self.assertEqual(delivery.state, "given up")

    def test_deadlines_are_in_the_calendar(self) -> None:
        look_again(self.context)
        read = Calendar.from_ical(exports.calendar(self.context, "http://windbreak.example"))
        summaries = [str(e["summary"]) for e in read.walk("VEVENT")]
        self.assertTrue(any("grace for Breakwater" in s for s in summaries), summaries)

    def test_an_inventory_is_valid_cyclonedx(self) -> None:
        text = exports.cyclonedx(self.context, "tarnsey-harbour")
        fault = JsonStrictValidator(SchemaVersion.V1_6).validate_str(text)
        self.assertIsNone(fault, fault)
        names = {c["name"]: c["version"] for c in json.loads(text)["components"]}
        self.assertEqual(names["Trestle"], "4.8")

    def test_metrics_are_openmetrics(self) -> None:
        catch_up(self.context)
        found = {
            m.name: m
            for m in text_string_to_metric_families(exports.metrics(self.context).decode())
        }
        sites_ = {s.labels["state"]: s.value for s in found["windbreak_sites"].samples}
        self.assertEqual(sum(sites_.values()), 1)

    def test_sites_go_out_and_come_in_as_csv_all_or_none(self) -> None:
        text = exports.sites_csv(self.context)
        (row,) = csv.DictReader(io.StringIO(text))
        self.assertEqual(row["label"], "Tarnsey Harbour Museum")
        again = exports.import_sites(self.context, text, RHONA)
        self.assertEqual((again.registered, again.known), ((), ("Tarnsey Harbour Museum",)))
        head = "label,address,environment,twin_of\r\n"
        good = head + (
            "Heron Lodge twin,https://twin.heron.example,staging,heron-lodge\r\n"
            "Heron Lodge,https://heron.example,,\r\n"
        )
        self.assertEqual(
            exports.import_sites(self.context, good, RHONA).registered,
            ("heron-lodge", "heron-lodge-twin"),
        )
        bad = (
            head
            + "A,https://a.example,,\r\nB,nowhere,,\r\nC,https://c.example,moon,\r\nD,https://d.example,staging,nobody\r\n"
        )
        with self.assertRaises(Refused) as caught:
            exports.import_sites(self.context, bad, RHONA)
        said = str(caught.exception)
        self.assertIn("line 3, address", said)
        self.assertIn("line 4, environment", said)
        only_twin = head + "A,https://a.example,,\r\nD,https://d.example,staging,nobody\r\n"
        with self.assertRaises(Refused) as caught:
            exports.import_sites(self.context, only_twin, RHONA)
        self.assertIn("line 3", str(caught.exception))
        self.assertIsNone(self.context.store.sites.at("https://a.example"))
        for text in ("", "name,where\r\nx,y\r\n"):
            with self.assertRaises(Refused):
                exports.import_sites(self.context, text, RHONA)

    def test_a_cell_is_no_formula(self) -> None:
        self.context.store.sites.change("tarnsey-harbour", client="=HYPERLINK(1)")
        self.assertIn("'=HYPERLINK(1)", exports.sites_csv(self.context))


class Copies(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("tarnsey-harbour")
        folder = tempfile.TemporaryDirectory(prefix="windbreak-test-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.file = self.folder / "night.zip"
        said = backup.backup(self.context.data, self.file, PASSPHRASE, self.context.clock())
        self.assertIn("night.zip", said)

    def test_a_restored_copy_has_everything_and_drives_nothing(self) -> None:
        plan = self.approved("tarnsey-harbour")
        backup.backup(self.context.data, self.folder / "two.zip", PASSPHRASE, self.context.clock())
        target = self.folder / "copy"
        backup.restore(self.folder / "two.zip", target, PASSPHRASE, self.context.clock())
        copy = open_context(target, soak=SOAK, private_networks="127.0.0.0/8")
        self.addCleanup(close, copy)
        self.assertEqual(copy.store.releases.all(), self.context.store.releases.all())
        for name in ("feed:chandlery", "service-key"):
            sealed = copy.store.secrets.get(name)
            assert sealed is not None
            self.assertTrue(copy.sealer.open(sealed))
        self.assertEqual((target / "seal.key").stat().st_mode & 0o777, 0o600)
        self.assertNotEqual(instance.of(copy).id, instance.of(self.context).id)
        self.assertFalse(instance.of(copy).drives)
        for refused in (
            lambda: runs.start(copy, plan.id, "Rhona Vale"),
            lambda: sites.link(copy, "tarnsey-harbour", RHONA),
        ):
            with self.assertRaises(Refused) as caught:
                refused()
            self.assertEqual(caught.exception.code, "drives-nothing")
        self.assertIn("instance", {f.kind for f in look_again(copy)})
        instance.take_over(copy, RHONA, "the old machine is gone")
        self.assertTrue(instance.of(copy).drives)
        self.assertEqual(runs.start(copy, plan.id, "Rhona Vale").state, "running")

    def test_a_wrong_passphrase_or_a_damaged_file_changes_nothing(self) -> None:
        damaged = self.folder / "damaged.zip"
        damaged.write_bytes(self.file.read_bytes()[:-400])
        full = self.folder / "full"
        full.mkdir()
        (full / "something").write_text("mine")
        target = self.folder / "copy"
        for file, where, passphrase, code in [
            (self.file, target, "another passphrase", "wrong-passphrase"),
            (damaged, target, PASSPHRASE, "bad-backup"),
            (self.file, full, PASSPHRASE, "not-empty"),
        ]:
            with self.subTest(code=code), self.assertRaises(Refused) as caught:
                backup.restore(file, where, passphrase, self.context.clock())
            self.assertEqual(caught.exception.code, code)
        self.assertFalse(target.exists())
        self.assertEqual([p.name for p in full.iterdir()], ["something"])
        for file, passphrase, code in [
            (self.file, PASSPHRASE, "file-exists"),
            (self.folder / "new.zip", "short", "short-passphrase"),
        ]:
            with self.assertRaises(Refused) as caught:
                backup.backup(self.context.data, file, passphrase, self.context.clock())
            self.assertEqual(caught.exception.code, code)

    def test_no_secret_lies_open_in_a_backup(self) -> None:
        import zipfile

        from windbreak.standins.feeds import SECRETS

        with zipfile.ZipFile(self.file) as opened:
            content = b"".join(opened.read(name) for name in opened.namelist())
        key = (self.context.data / "seal.key").read_bytes()
        for secret in (*(s.encode() for s in SECRETS), b"BW5-TARNSEY-HK2D-7Q2F", key):
            self.assertNotIn(secret, content)
