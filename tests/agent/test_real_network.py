"""A real network of sites: its members are told, and what is on for all of them is switched so."""

from __future__ import annotations

from tests.agent.test_real import SITE, WithReal
from windbreak.links.signed_agent import SignedAgent
from windbreak.operations.sites import sites
from windbreak.standins import catalogue, real_hands, workshop
from windbreak.standins.workshop import DOCK

_NETWORK = """<?php
define( 'WP_INSTALLING_NETWORK', true );
$_SERVER['HTTP_HOST'] = 'HOST';
require 'ROOT/wp-load.php';
foreach ( array( 'upgrade', 'network', 'plugin' ) as $part ) {
	require_once ABSPATH . "wp-admin/includes/$part.php";
}
foreach ( $wpdb->tables( 'ms_global' ) as $name => $table ) {
	$wpdb->$name = $table;
}
install_network();
populate_network( 1, 'HOST', 'keeper@example.org', 'Harbours', '/', false );
echo 'made';
"""
_ALONE = """<?php
$_SERVER['HTTP_HOST'] = 'HOST';
require 'ROOT/wp-load.php';
update_option( 'active_plugins', array( 'windbreak-agent/windbreak-agent.php' ) );
"""
_CONSTANTS = """define( 'MULTISITE', true );
define( 'SUBDOMAIN_INSTALL', false );
define( 'DOMAIN_CURRENT_SITE', 'HOST' );
define( 'PATH_CURRENT_SITE', '/' );
define( 'SITE_ID_CURRENT_SITE', 1 );
define( 'BLOG_ID_CURRENT_SITE', 1 );
$table_prefix"""
_MEMBER = """<?php
$_SERVER['HTTP_HOST'] = 'HOST';
require 'ROOT/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/plugin.php';
$id = wpmu_create_blog( 'HOST', '/quay/', 'The Quay', 1 );
activate_plugin( 'dune-dock/dune-dock.php', '', true );
// It takes no port into an address of its own accord.
$wpdb->update( $wpdb->blogs, array( 'domain' => 'HOST' ), array( 'blog_id' => $id ) );
clean_blog_cache( $id );
switch_to_blog( $id );
activate_plugin( 'tide-forms/tide-forms.php' );
echo is_wp_error( $id ) ? $id->get_error_message() : $id;
"""


class Network(WithReal):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        made = ((DOCK, "1.0"), ("plugin/tide-forms", "1.0"))
        cls.real.put([catalogue.archive(workshop.release(*which)) for which in made])
        host = cls.real.address[7:]

        def run(script: str) -> str:
            return cls.real.php(script.replace("ROOT", str(cls.real.root)).replace("HOST", host))

        run(_ALONE)
        run(_NETWORK)
        config = cls.real.root / "wp-config.php"
        told = _CONSTANTS.replace("HOST", host)
        config.write_text(config.read_text().replace("$table_prefix", told, 1))
        run(_MEMBER)

    def test_members_are_told_and_what_is_on_for_all_is_switched_for_all(self) -> None:
        agent = self.linked()
        site = sites.refresh(self.context, SITE)
        self.assertEqual(site.link.state, "linked", site.link.reason)
        there = self.context.store.inventories.get(SITE)
        base = self.real.address
        self.assertEqual(
            {member.address: ("plugin/tide-forms" in member.on) for member in there.members},
            {base: False, f"{base}/quay": True},
        )
        self.assertEqual({member.name for member in there.members} & {"The Quay"}, {"The Quay"})
        self.assertTrue(self.is_on(agent))
        off = agent.do("switch", "c-1-off", product=DOCK, on=False)
        self.assertEqual((off, self.is_on(agent)), ({"was": True}, False))
        on = agent.do("switch", "c-1-on", product=DOCK, on=True)
        self.assertEqual((on, self.is_on(agent)), ({"was": False}, True))
        made = self.done(agent, "snapshot", "c-1-snap")
        self.sql("UPDATE wp_2_options SET option_value = 'ruined' WHERE option_name = 'blogname'")
        self.done(agent, "restore", "c-1-back", snapshot=made["snapshot"])
        named = self.sql("SELECT option_value FROM wp_2_options WHERE option_name = 'blogname'")
        self.assertIn("The Quay", named)

    def test_what_is_refused_by_hand_stays_on_for_all(self) -> None:
        agent = self.linked()
        agent.do("purge", "c-2-over")  # no run is at work
        archive = catalogue.archive(workshop.release("plugin/tide-forms", "1.0"))
        main = "dune-dock/dune-dock.php"
        code, why = real_hands.upgraded_by_hand(self.real, main, "1.1", archive)
        self.assertEqual(
            (code, "its folder is tide-forms" in why), ("windbreak_wrong_archive", True)
        )
        self.assertTrue(self.is_on(agent))

    def is_on(self, agent: SignedAgent) -> bool:
        there = agent.inventory(SITE, self.context.clock())
        return next(c.active for c in there.components if c.product == DOCK)
