"""A snapshot's files, by themselves: what comes and goes while it is made, what may not be read,
names as older sites have them. PHP makes and lays out; no system stands around it.
"""

from __future__ import annotations

import json
import os
import shutil
import stat
import subprocess
import unittest
import zipfile
from pathlib import Path

from tests.agent import hosts
from tests.agent.hosts import AGENT

_BEGUN = """
define( 'ABSPATH', $argv[2] . '/' );
define( 'WP_CONTENT_DIR', $argv[2] . '/wp-content' );
function get_option() {
	return '';
}
foreach ( array( 'archive', 'folders', 'memory', 'snapshots' ) as $part ) {
	require "$argv[1]/parts/$part.php";
}
$wpdb = (object) array( 'prefix' => 'wp_' );
$sign = function ( $what ) use ( $argv ) {
	'packing' === $what && '' !== $argv[4] && @unlink( $argv[4] );
};
$snapshots = new Windbreak\\Snapshots( new Windbreak\\Memory( $argv[3] ), $sign );
$called = function ( $name, ...$args ) use ( $snapshots ) {
	$method = new ReflectionMethod( $snapshots, $name );
	$method->setAccessible( true );
	return $method->invoke( $snapshots, ...$args );
};
"""
# Pack a root, and take a file away before it is read.
_PACKED = (
    _BEGUN
    + """
file_put_contents( "$argv[3]/made.sql", "-- end\\n" );
try {
	$count = $called( 'packed', "$argv[3]/made.zip", $argv[5], "$argv[3]/made.sql", array() );
	echo json_encode( array( 'count' => $count ) );
} catch ( Windbreak\\Failed $error ) {
	echo json_encode( array( 'code' => $error->failure, 'why' => $error->getMessage() ) );
}
"""
)
# Lay out what was packed.
_LAID_OUT = (
    _BEGUN
    + """
$zip = new ZipArchive();
$zip->open( "$argv[3]/made.zip" );
iterator_to_array( Windbreak\\Archive::unpack( $zip, array(), $argv[2], "$argv[3]/out" ) );
"""
)


@unittest.skipIf(shutil.which("php") is None, "there is no PHP here")
class Files(unittest.TestCase):
    def setUp(self) -> None:
        folder = hosts.folder()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.root, self.state = self.folder / "site", self.folder / "state"
        shutil.copytree(AGENT, self.folder / "agent")
        (self.root / "cache").mkdir(parents=True)
        for n in range(3):
            (self.root / f"cache/page-{n}.html").write_text(f"page {n}")

    def packed(self, *, gone: Path | None = None, held: Path | None = None) -> dict[str, object]:
        """What became of packing the root; ``gone`` is taken away once it is listed, and second
        names are made in ``held``.
        """
        given = [self.root, self.state, gone or "", held or self.folder / "held"]
        answer = hosts.php(_PACKED, self.folder, self.folder / "agent", *given)
        return dict(json.loads(answer))

    def laid_out(self) -> Path:
        """Where the files of what was packed are laid out."""
        given = [self.folder / "agent", self.root, self.state, "", ""]
        hosts.php(_LAID_OUT, self.folder, *given)
        return self.state / "out/files"

    def test_a_file_that_goes_while_a_snapshot_is_made_is_in_it(self) -> None:
        gone = self.root / "cache/page-1.html"
        self.assertEqual(self.packed(gone=gone), {"count": 3})
        self.assertFalse(gone.exists())
        self.assertEqual((self.laid_out() / "cache/page-1.html").read_text(), "page 1")

    def test_where_files_cannot_be_held_one_that_goes_makes_no_half_snapshot(self) -> None:
        with hosts.folder("/dev/shm") as elsewhere:
            if Path(elsewhere).stat().st_dev == self.folder.stat().st_dev:
                self.skipTest("there is one disk only")
            held, gone = Path(elsewhere, "held"), self.root / "cache/page-1.html"
            self.assertEqual(self.packed(held=held, gone=gone), {"count": None})
            self.assertFalse((self.state / "made.zip").exists())
            self.assertEqual(self.packed(held=held), {"count": 2})

    def test_a_file_or_folder_that_may_not_be_read_makes_no_snapshot_and_is_named(self) -> None:
        for name in ("cache/page-2.html", "cache"):
            had = (self.root / name).stat().st_mode
            (self.root / name).chmod(0o200)
            answer = self.packed()
            (self.root / name).chmod(had)
            self.assertEqual(answer["code"], "not-permitted")
            self.assertIn(f"PHP may not read {name}:", str(answer["why"]))
            self.assertFalse((self.state / "made.zip").exists())

    def test_names_that_are_no_utf_8_come_back_as_they_were(self) -> None:
        name = b"caf\xe9.jpg"
        (self.root / os.fsdecode(name)).write_text("a cup")
        self.assertEqual(self.packed(), {"count": 4})
        self.assertTrue((self.laid_out() / os.fsdecode(name)).exists())

    def test_what_is_still_the_same_is_not_written_again_and_what_is_not_is(self) -> None:
        same, text, mode, time = (self.root / f"cache/{name}.html" for name in "abcd")
        for path in (same, text, mode, time):
            path.write_text("as it was")
            path.chmod(0o640)
            os.utime(path, (10**9, 10**9))
        self.packed()
        text.write_text("as it is.")
        os.utime(text, (10**9, 10**9))
        mode.chmod(0o600)
        os.utime(time, (10**9 + 60, 10**9 + 60))
        out = self.laid_out()
        for path in (same, text, mode, time):
            back = out / path.relative_to(self.root)
            self.assertEqual(back.read_text(), "as it was")
            self.assertEqual(stat.S_IMODE(back.stat().st_mode), 0o640)
            self.assertEqual(back.stat().st_mtime, 10**9)
            self.assertEqual(back.samefile(path), path == same, path)
        self.assertEqual(text.read_text(), "as it is.")
        self.assertEqual(stat.S_IMODE(mode.stat().st_mode), 0o600)
        self.assertEqual(time.stat().st_mtime, 10**9 + 60)

    def test_what_lies_behind_a_link_now_is_not_shared(self) -> None:
        self.packed()
        (self.root / "cache").rename(self.folder / "elsewhere")
        (self.root / "cache").symlink_to(self.folder / "elsewhere")
        back = self.laid_out() / "cache/page-0.html"
        self.assertEqual(back.read_text(), "page 0")
        self.assertFalse(back.samefile(self.folder / "elsewhere/page-0.html"))

    def test_a_path_that_leads_out_is_refused(self) -> None:
        self.state.mkdir()
        with zipfile.ZipFile(self.state / "made.zip", "w") as written:
            written.writestr("files/../../../out.txt", "out")
        with self.assertRaises(subprocess.CalledProcessError) as caught:
            self.laid_out()
        self.assertIn("leads out: files/../../../out.txt", caught.exception.stderr)
        self.assertEqual([*self.folder.rglob("out.txt")], [])

    def test_another_program_can_open_it(self) -> None:
        (self.root / "cache/page-0.html").chmod(0o640)
        self.packed()
        with zipfile.ZipFile(self.state / "made.zip") as opened:
            self.assertIsNone(opened.testzip())
            page = opened.getinfo("files/cache/page-0.html")
            self.assertEqual((page.external_attr >> 16) & 0o7777, 0o640)
            self.assertEqual(opened.read(page), b"page 0")
            self.assertEqual(json.loads(opened.read("site.json"))["root"], str(self.root))
