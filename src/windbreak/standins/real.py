"""A real WordPress with a real MariaDB, from Debian's packages, under one folder.

Everything that is started ends with whoever started it; a second start takes seconds. Which sites
``windbreak demo --real`` adds to the demo fleet: see ``real_fleet``; what others do there, and a
disk that fills: ``real_hands``.

Needs php-cli with its mysql, zip, curl, xml, mbstring and gd, and mariadb-server-core and
-client-core; ``missing`` says what of it is not there. The system itself is fetched as a package
and unpacked into the folder, never installed. The agent is put there as its zip would be.
"""

from __future__ import annotations

import io
import json
import os
import re
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
import zipfile
from collections.abc import Callable, Iterable
from datetime import date
from pathlib import Path

import httpx

from windbreak.packages.examine import examine

AGENT = Path(__file__).parents[3] / "agent/windbreak-agent"
SYSTEM = (
    "wordpress",
    "wordpress-theme-twentytwentythree",
    "wordpress-theme-twentytwentyone",
    "libjs-cropper",
    "libjs-underscore",
    "php-getid3",
)
PACKAGES = (
    *("php-cli", "php-mysql", "php-zip", "php-curl", "php-xml", "php-mbstring", "php-gd"),
    *("mariadb-server-core", "mariadb-client-core"),
)
EXTENSIONS = ("mysqli", "zip", "curl", "dom", "mbstring", "gd", "sodium")
_PATIENCE = 60.0

_CONFIG = """<?php
define( 'DB_NAME', '{name}' );
define( 'DB_USER', 'root' );
define( 'DB_PASSWORD', '' );
define( 'DB_HOST', 'localhost:{socket}' );
define( 'DB_CHARSET', 'utf8mb4' );
define( 'DB_COLLATE', '' );
{salts}
define( 'WP_HOME', '{address}' );
define( 'WP_SITEURL', '{address}' );
define( 'WP_ENVIRONMENT_TYPE', 'local' );
define( 'FS_METHOD', 'direct' );
define( 'WP_CACHE', true );
define( 'DISABLE_WP_CRON', true );
define( 'WP_HTTP_BLOCK_EXTERNAL', true );
define( 'WP_ACCESSIBLE_HOSTS', '127.0.0.1' );
define( 'WP_DEBUG', true );
define( 'WP_DEBUG_LOG', '{log}' );
define( 'WP_DEBUG_DISPLAY', false );
$table_prefix = 'wp_';
if ( ! defined( 'ABSPATH' ) ) {{
	define( 'ABSPATH', __DIR__ . '/' );
}}
require_once ABSPATH . 'wp-settings.php';
"""
_INSTALL = """<?php
define( 'WP_INSTALLING', true );
$_SERVER['HTTP_HOST'] = '{host}';
require '{root}/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
require_once ABSPATH . 'wp-admin/includes/plugin.php';
wp_install( '{title}', 'keeper', 'keeper@example.org', false, '', 'only-for-this-demo' );
switch_theme( 'twentytwentyone' );
activate_plugin( 'windbreak-agent/windbreak-agent.php' );
"""
_SWITCH = """<?php
define( 'WP_INSTALLING', true );
$_SERVER['HTTP_HOST'] = '{host}';
require '{root}/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/plugin.php';
foreach ( array( {files} ) as $file ) {{
	$done = activate_plugin( $file );
	if ( is_wp_error( $done ) ) {{
		fwrite( STDERR, $done->get_error_message() );
		exit( 1 );
	}}
}}
if ( '' !== '{theme}' ) {{
	update_option( 'template', '{theme}' );
	update_option( 'stylesheet', '{child}' );
}}
"""
_LISTED = """<?php
$_SERVER['HTTP_HOST'] = 'x';
require '{root}/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/plugin.php';
$found = array( 'core/wordpress' => $wp_version );
foreach ( get_plugins() as $file => $head ) {{
	$found[ 'plugin/' . dirname( $file ) ] = $head['Version'];
}}
foreach ( wp_get_themes() as $name => $one ) {{ $found[ "theme/$name" ] = $one->get( 'Version' ); }}
echo json_encode( $found );
"""
_PASTE = """<?php
define( 'SHORTINIT', true );
$_SERVER['HTTP_HOST'] = '{host}';
require '{root}/wp-load.php';
foreach ( glob( '{root}/wp-content/plugins/windbreak-agent/parts/*.php' ) as $part ) {{
	require_once $part;
}}
$agent = new Windbreak\\Agent( new Windbreak\\Memory( Windbreak\\Place::of( ABSPATH ) ) );
try {{
	$agent->paste( '{line}' );
}} catch ( Windbreak\\Refused $error ) {{
	fwrite( STDERR, $error->getMessage() );
	exit( 1 );
}}
"""


def missing() -> list[str]:
    """What this machine lacks for a real site, in words; none where it has everything."""
    lacks = [
        f"{program}, of Debian’s {package}"
        for program, package in (
            ("php", "php-cli"),
            ("mariadbd", "mariadb-server-core"),
            ("mariadb-install-db", "mariadb-server-core"),
            ("dpkg", "dpkg"),
        )
        if shutil.which(program) is None
    ]
    if shutil.which("php"):
        loaded = _output(["php", "-m"]).lower().split()
        lacks += [f"PHP’s extension {name}" for name in EXTENSIONS if name not in loaded]
    return lacks


def browser() -> str:
    """A Chromium of this machine, in which the editor is looked at; empty where there is none."""
    paths = (shutil.which(name) for name in ("chromium", "chromium-browser", "google-chrome"))
    return next((program for program in paths if program), "")


class RealSite:
    """One site and its database. ``memory``: the most that PHP takes for a request. ``template``: a
    folder that ``prepare`` made, whose files are copied instead of fetched. ``stop`` ends
    everything that was started.
    """

    def __init__(
        self,
        folder: Path,
        title: str = "Skerry Light Trust",
        *,
        memory: str = "128M",
        template: Path | None = None,
    ) -> None:
        self.folder, self.title, self.memory, self.template = folder, title, memory, template
        self.root = folder / "web"
        self.processes: list[subprocess.Popen[bytes]] = []
        self._ini = ""  # where PHP reads which extensions it has; empty: where it always does
        self._settings: tuple[str, ...] = ()  # of PHP, as a host may have them
        kept = folder / "port"
        folder.mkdir(parents=True, exist_ok=True)
        if not kept.exists():
            kept.write_text(str(_free_port()))
        self.port = int(kept.read_text())
        self.address = f"http://127.0.0.1:{self.port}"
        self._socket = folder / "db.sock"

    def start(self) -> str:
        """Make what is missing and start both; the address. A second start takes seconds."""
        whole = self.folder / "installed"
        try:
            if not whole.exists():
                shutil.rmtree(self.root, ignore_errors=True)  # what an earlier try left
                self._unpack()
            self._put_agent()
            self._database()
            if not whole.exists():
                self.mysql(f"DROP DATABASE IF EXISTS {_NAME}; CREATE DATABASE {_NAME}")
                self._configure()
                self.php(_INSTALL.format(host=self.address[7:], root=self.root, title=self.title))
                whole.write_text("")
            self._serve()
        except BaseException:
            self.stop()
            raise
        return self.address

    def kill_database(self) -> None:
        """End the database as a power cut would; ``start_database`` starts it again."""
        pid = int((self.folder / "db.pid").read_text())
        os.kill(pid, signal.SIGKILL)
        held = self.processes.pop(0)
        held.wait(timeout=20)
        assert held.stdin is not None  # it holds what it started by that
        held.stdin.close()

    def start_database(self) -> None:
        self._database()
        self.processes.insert(0, self.processes.pop())

    def server_processes(self) -> list[int]:
        """The processes of its web server."""
        listing = _output(["pgrep", "-f", f"-S 127.0.0.1:{self.port} "])
        return [int(pid) for pid in listing.split() if int(pid) != self.processes[-1].pid]

    def serve_again(self) -> None:
        """Start the web server anew, after it was ended as a power cut would."""
        ended = self.processes.pop()
        assert ended.stdin is not None
        ended.stdin.close()
        ended.wait(timeout=20)
        end = time.monotonic() + _PATIENCE
        while self._listens() and time.monotonic() < end:
            time.sleep(0.05)  # one that is just dying still takes calls, and drops them
        self._serve(whole=False)

    def newer_system(self) -> tuple[str, bytes]:
        """A newer release of the system, as a package: made from the one that is installed, with
        the version in its own file raised, since only one genuine version can be had here.
        """
        file = self.root / "wp-includes/version.php"
        own = file.read_text()
        match = re.search(r"\$wp_version = '([^']+)'", own)
        assert match is not None
        first, _, last = match.group(1).rpartition(".")
        newer = f"{first}.{int(last) + 1}"
        archive = io.BytesIO()
        with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as opened:
            for path in sorted(self.root.rglob("*")):
                place = path.relative_to(self.root)
                if not path.is_file() or place.name in ("wp-config.php", ".maintenance"):
                    continue
                if place.parts[0] == "wp-content" and place.name != "index.php":
                    continue  # what is the site's own
                text = own.replace(match.group(0), f"$wp_version = '{newer}'")
                opened.writestr(
                    f"wordpress/{place.as_posix()}",
                    text if path == file else path.read_bytes(),
                )
        return newer, archive.getvalue()

    def stop(self) -> None:
        for process in reversed(self.processes):
            if process.stdin is not None:
                process.stdin.close()
        for process in self.processes:
            process.wait(timeout=40)
        self.processes = []

    def paste(self, line: str) -> None:
        """Give the agent the console's line, as its owner does on its page."""
        self.php(_PASTE.format(host=self.address[7:], root=self.root, line=line))

    def put(self, packages: Iterable[bytes]) -> None:
        """Unpack some packages where they belong, and switch them on, as somebody did long ago."""
        plugins, theme, child = list[str](), "", ""
        for package in packages:
            header = examine(package).header
            kind, slug = header.product.split("/")
            with zipfile.ZipFile(io.BytesIO(package)) as opened:
                opened.extractall(self.root / f"wp-content/{kind}s")
            if kind == "plugin":
                plugins.append(f"{slug}/{slug}.php")
            elif "Template:" in (self.root / f"wp-content/themes/{slug}/style.css").read_text():
                child = slug
            else:
                theme = slug
        listed = ", ".join(f"'{file}'" for file in plugins)
        listing = {"files": listed, "theme": theme, "child": child or theme}
        self.php(_SWITCH.format(host=self.address[7:], root=self.root, **listing))

    def listed(self) -> dict[str, str]:
        """What the system itself lists, by its own functions in a process of its own."""
        return dict(json.loads(self.php(_LISTED.format(root=self.root))))

    def php(self, script: str) -> str:
        """What a script says; raises RuntimeError where it fails."""
        file = self.folder / f"script-{secrets.token_hex(4)}.php"  # several may run at once
        file.write_text(script)
        command = [
            "php",
            *[word for setting in self._settings for word in ("-d", setting)],
            str(file),
        ]
        done = subprocess.run(command, capture_output=True, text=True, timeout=120)
        file.unlink()
        if done.returncode or "Fatal" in done.stdout:
            raise RuntimeError(f"php: {done.stdout[-500:]}{done.stderr[-500:]}")
        return done.stdout

    def _unpack(self) -> None:
        if self.template is not None:
            shutil.copytree(self.template / "web", self.root)
            return
        packages, parts = self.folder / "packages", self.folder / "parts"
        packages.mkdir(exist_ok=True)
        run_command(["apt-get", "download", *SYSTEM], cwd=packages)
        for package in sorted(packages.glob("*.deb")):
            run_command(["dpkg", "-x", str(package), str(parts)])
        whole = parts / "usr/share/wordpress"
        for dangling in (whole / ".htaccess", whole / "wp-config.php"):
            dangling.unlink(missing_ok=True)
        _lead_inside(parts)
        shutil.copytree(whole, self.root, symlinks=False, ignore_dangling_symlinks=True)
        shutil.rmtree(parts)
        shutil.rmtree(packages)

    def _put_agent(self) -> None:
        """The agent's folder as its zip holds it; its first part where activating puts it."""
        place = self.root / "wp-content/plugins/windbreak-agent"
        shutil.rmtree(place, ignore_errors=True)
        shutil.copytree(AGENT, place)
        first = self.root / "wp-content/mu-plugins"
        if (first / "windbreak-first.php").exists():
            shutil.copy(AGENT / "first.php", first / "windbreak-first.php")

    def _configure(self) -> None:
        names = ("AUTH", "SECURE_AUTH", "LOGGED_IN", "NONCE")
        salts = "\n".join(
            f"define( '{name}_{kind}', '{secrets.token_hex(24)}' );"
            for name in names
            for kind in ("KEY", "SALT")
        )
        fields = {"name": _NAME, "socket": self._socket, "salts": salts, "address": self.address}
        config = _CONFIG.format(**fields, log=self.error_log)
        (self.root / "wp-config.php").write_text(config)

    def _database(self) -> None:
        # A database that starts empties its place for passing tables, of another's too.
        data, passing = self.folder / "database", self.folder / "passing"
        passing.mkdir(exist_ok=True)
        if not (data / "mysql").exists():
            self._empty_database(data, passing)
        self._start(
            "mariadbd",
            "--no-defaults",
            f"--user={_user()}",
            f"--datadir={data}",
            f"--tmpdir={passing}",
            f"--socket={self._socket}",
            f"--pid-file={self.folder / 'db.pid'}",
            "--skip-networking",
            "--innodb-buffer-pool-size=64M",
            "--innodb-flush-log-at-trx-commit=0",
            "--performance-schema=OFF",
            "--skip-log-bin",
        )
        self._until(lambda: self.mysql("SELECT 1") is not None, "the database")

    def _empty_database(self, data: Path, passing: Path) -> None:
        if self.template is not None:
            shutil.copytree(self.template / "database", data)
            return
        run_command(
            [
                "mariadb-install-db",
                "--no-defaults",
                f"--user={_user()}",
                f"--datadir={data}",
                f"--tmpdir={passing}",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
            ]
        )

    def prepare(self) -> None:
        """Fetch the system and make an empty database, for sites to be copied from."""
        self._unpack()
        passing = self.folder / "passing"
        passing.mkdir()
        self._empty_database(self.folder / "database", passing)

    def mysql(self, sql: str) -> str | None:
        """What the database answers to a statement; None where it refuses."""
        done = subprocess.run(
            ["mariadb", "--no-defaults", f"--socket={self._socket}", "-uroot", "-e", sql],
            capture_output=True,
            text=True,
        )
        return done.stdout if done.returncode == 0 else None

    @property
    def error_log(self) -> Path:
        """Where it writes what went wrong: outside what it serves."""
        return self.folder / "debug.log"

    @property
    def socket(self) -> Path:
        """Where its database listens."""
        return self._socket

    def load(self, database: str, dump: Path) -> None:
        """Carry out the statements of a file in a database."""
        client = ["mariadb", "--no-defaults", f"--socket={self._socket}", "-uroot", database]
        with dump.open("rb") as statements:
            subprocess.run(client, stdin=statements, check=True, capture_output=True)

    def serve_without(self, *extensions: str) -> None:
        """Serve anew with a PHP that lacks some extensions; with none named, with all of them."""
        self._ini = ""
        if extensions:
            place = self.folder / "ini"
            shutil.rmtree(place, ignore_errors=True)
            place.mkdir()
            folders = _output(["php", "-i"]).partition(
                "Scan this dir for additional .ini files => "
            )[2]
            for file in Path(folders.splitlines()[0]).glob("*.ini"):
                if file.stem.partition("-")[2] not in extensions:
                    shutil.copy(file, place / file.name)
            self._ini = str(place)
        self.serve_again()

    def serve_with(self, *settings: str) -> None:
        """Serve anew with a PHP that a host has set so: ``post_max_size=1M``."""
        self._settings = settings
        self.serve_again()

    def _serve(self, *, whole: bool = True) -> None:
        where = f"127.0.0.1:{self.port}"
        # Several at once: a site asks itself.
        # What is compiled is held against its file at each request, as careful hosts have it.
        settings = ("opcache.revalidate_freq=0", f"memory_limit={self.memory}", *self._settings)
        options = [word for option in settings for word in ("-d", option)]
        self._start("php", *options, "-S", where, "-t", str(self.root), workers="4")
        self._until(self._answers if whole else self._listens, "the site")

    def _answers(self) -> bool:
        try:
            return httpx.get(self.address, timeout=10, trust_env=False).status_code == 200
        except httpx.HTTPError:
            return False

    def _listens(self) -> bool:
        with socket.socket() as listener:
            return listener.connect_ex(("127.0.0.1", self.port)) == 0

    def _start(self, *command: str, workers: str = "") -> None:
        log = (self.folder / f"{command[0]}.log").open("ab")
        more = {"PHP_CLI_SERVER_WORKERS": workers} if workers else {}
        more |= {"PHP_INI_SCAN_DIR": self._ini} if self._ini else {}
        self.processes.append(
            subprocess.Popen(
                [sys.executable, "-m", "windbreak.standins.holding", *command],
                stdin=subprocess.PIPE,
                stdout=log,
                stderr=log,
                start_new_session=True,
                env={**os.environ, **more},
            )
        )
        log.close()

    def _until(self, holds: object, what: str) -> None:
        end = time.monotonic() + _PATIENCE
        while not holds():  # type: ignore[operator]
            if self.processes[-1].poll() is not None or time.monotonic() > end:
                raise RuntimeError(f"{what} did not start; see the logs in {self.folder}")
            time.sleep(0.2)


_NAME = "site"


def prepared(place: Path) -> Path:
    """A folder with the system and an empty database in it, for sites to be copied from: made
    once a day, by whoever comes first. Raises RuntimeError.
    """
    folder = place / f"windbreak-real-{os.getuid()}-{date.today().isoformat()}"
    if not folder.exists():
        making = folder.with_name(f"{folder.name}-{os.getpid()}")
        making.mkdir(parents=True)
        RealSite(making).prepare()
        try:
            making.rename(folder)
        except OSError:  # another was there first
            shutil.rmtree(making)
    return folder


def _lead_inside(parts: Path) -> None:
    """Let links lead into the folder instead of where packages would be installed, each by its
    whole path: what copies a tree takes a relative one for one that leads nowhere.
    """
    for path in [*parts.rglob("*")]:
        if path.is_symlink():
            target = path.readlink()
            inside = parts / target.relative_to("/") if target.is_absolute() else target
            path.unlink()
            path.symlink_to(Path(os.path.normpath(path.parent / inside)))


def _user() -> str:
    return os.environ.get("USER") or "root"


def _free_port() -> int:
    with socket.socket() as listener:
        listener.bind(("127.0.0.1", 0))
        return int(listener.getsockname()[1])


def _output(command: Iterable[str]) -> str:
    return subprocess.run([*command], capture_output=True, text=True, check=False).stdout


def run_command(command: Iterable[str], cwd: Path | None = None) -> None:
    """Carry out a program. Raises RuntimeError with what it says where it fails."""
    done = subprocess.run([*command], cwd=cwd, capture_output=True, text=True)
    if done.returncode:
        raise RuntimeError(f"{' '.join(command)}: {done.stderr.strip()[-400:]}")


def install(*, ask: Callable[[str], bool]) -> None:
    """Install what is missing from Debian's packages, once somebody said yes. Raises RuntimeError
    with what is missing, and the command that brings it.
    """
    lacks = missing()
    if not lacks:
        return
    command = ["apt-get", "install", "--yes", "--no-install-recommends", *PACKAGES]
    question = f"a real site needs {'; '.join(lacks)}. {' '.join(command)} brings it"
    if not ask(question):
        raise RuntimeError(question)
    run_command(command)
    if lacks := missing():
        raise RuntimeError(f"after installing, this is still missing: {'; '.join(lacks)}")
