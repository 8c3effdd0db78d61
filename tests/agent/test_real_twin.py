"""A real site carried to its twin: addresses rewritten, its own settings kept; a backup proved."""

from __future__ import annotations

import json
from pathlib import Path
from typing import ClassVar

import httpx

from tests.agent.test_real import SITE, WithReal
from tests.operations.within import RHONA
from windbreak.core.values.sites import NewSite
from windbreak.operations.sites import sites, twins
from windbreak.standins import real

TWIN = "skerry-light-twin"
_FILL = """<?php
$_SERVER['HTTP_HOST'] = 'x';
require 'ROOT/wp-load.php';
$here = 'http://127.0.0.1:PORT';
update_option( 'tide_places', array(
	'é shop' => "$here/shop",
	'inner' => serialize( array( 'deep' => "$here/deep", 'n' => 7 ) ),
	'other' => "${here}1/elsewhere",
	'object' => (object) array( 'at' => $here ),
	'number' => 1.5,
	'nothing' => null,
) );
update_option( 'tide_json', json_encode( array( 'at' => "$here/json" ) ) );
update_option( 'tide_bare', '//127.0.0.1:PORT/bare' );
update_option( 'blog_public', '1' );
wp_insert_post( array(
	'post_title' => 'Moored', 'post_status' => 'publish', 'post_type' => 'page',
	'post_content' => "<a href='$here/quay'>quay</a>",
) );
"""
_READ = """<?php
$_SERVER['HTTP_HOST'] = 'x';
require 'ROOT/wp-load.php';
$kept = get_option( 'tide_places' );
$kept['inner'] = unserialize( $kept['inner'] );
$kept['json']  = json_decode( get_option( 'tide_json' ) );
$kept['bare']  = get_option( 'tide_bare' );
$kept['page']  = get_page_by_title( 'Moored' )->post_content;
$asked         = "SELECT option_value FROM wp_options WHERE option_name = 'siteurl'";
$kept['own']   = $GLOBALS['wpdb']->get_var( $asked );
echo json_encode( $kept );
"""
_SPEAKS = """<?php
$_SERVER['HTTP_HOST'] = 'x';
require 'ROOT/wp-load.php';
$mails = 0;
add_action( 'phpmailer_init', function () use ( &$mails ) { $mails++; } );
wp_mail( 'somebody@example.org', 'Your order', 'It is on its way.' );
wp_schedule_single_event( time() - 5, 'tide_pay' );
echo json_encode( array( $mails, count( wp_get_ready_cron_jobs() ), get_option( 'blog_public' ) ) );
"""


def script(text: str, one: real.RealSite) -> str:
    return text.replace("ROOT", str(one.root)).replace("PORT", str(one.port))


class Twins(WithReal):
    twin: ClassVar[real.RealSite]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.twin = real.RealSite(cls.folder / "twin", "Skerry Light, twin", template=cls.template)
        cls.addClassCleanup(cls.twin.stop)
        cls.twin.start()

    def setUp(self) -> None:
        super().setUp()
        self.linked()
        new = NewSite(
            label="Skerry Light, twin",
            address=self.twin.address,
            system="wordpress",
            environment="staging",
            twin_of=SITE,
        )
        sites.register(self.context, new, RHONA, TWIN)
        self.twin.paste(sites.link_line(self.context, TWIN, RHONA).line)
        sites.link(self.context, TWIN, RHONA)
        for site in (SITE, TWIN):
            sites.refresh(self.context, site)
        self.real.php(script(_FILL, self.real))
        self.tells: list[str] = []

    def state(self, one: real.RealSite) -> Path:
        return next(one.folder.glob(".windbreak-*"))

    def test_a_twin_is_made_as_its_site_is_with_its_own_addresses(self) -> None:
        config = (self.twin.root / "wp-config.php").read_text()
        told = twins.refresh(self.context, TWIN, self.tells.append)
        self.assertIn("as on the site", told.text)
        here, there = f"127.0.0.1:{self.twin.port}", f"127.0.0.1:{self.real.port}"
        self.assertEqual(
            json.loads(self.twin.php(script(_READ, self.twin))),
            {
                "é shop": f"http://{here}/shop",
                "inner": {"deep": f"http://{here}/deep", "n": 7},
                "other": f"http://{there}1/elsewhere",  # it only begins like the address
                "object": {"at": f"http://{here}"},
                "number": 1.5,
                "nothing": None,
                "json": {"at": f"http://{here}/json"},
                "bare": f"//{here}/bare",
                "page": f"<a href='http://{here}/quay'>quay</a>",
                "own": f"http://{here}",
            },
        )
        self.assertEqual((self.twin.root / "wp-config.php").read_text(), config)
        page = httpx.get(f"{self.twin.address}/?pagename=moored", trust_env=False, timeout=30)
        self.assertEqual(page.status_code, 200)
        for one in (self.real, self.twin):
            self.assertEqual([*(self.state(one) / "snapshots").iterdir()], [])
            self.assertEqual([*(self.state(one) / "staging").iterdir()], [])
        self.assertEqual(self.twin.mysql("USE site; SHOW TABLES LIKE 'windbreak%'"), "")

    def test_a_twin_sends_no_mail_and_does_nothing_that_its_site_has_scheduled(self) -> None:
        twins.refresh(self.context, TWIN, self.tells.append)
        mails, due, public = json.loads(self.real.php(script(_SPEAKS, self.real)))
        self.assertEqual((mails, public), (1, "1"))
        self.assertGreater(due, 0)
        self.assertEqual(json.loads(self.twin.php(script(_SPEAKS, self.twin))), [0, 0, "0"])
        checks = self.context.store.inventories.get(TWIN).checks or ()
        (scheduled,) = [check for check in checks if check.id == "scheduled"]
        self.assertEqual(scheduled.state, "good")

    def test_a_backup_is_proved_on_the_twin_which_is_as_it_was_afterwards(self) -> None:
        self.twin.mysql(
            "USE site; UPDATE wp_options SET option_value='Kept' WHERE option_name='blogname'"
        )
        told = twins.prove(self.context, TWIN, self.tells.append)
        self.assertTrue(told.well, told.text)
        name = self.twin.mysql(
            "USE site; SELECT option_value FROM wp_options WHERE option_name='blogname'"
        )
        self.assertIn("Kept", name or "")
        self.assertTrue(self.context.store.sites.get(SITE).proved)
