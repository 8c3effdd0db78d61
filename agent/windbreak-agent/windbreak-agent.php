<?php
/**
 * Plugin Name: Windbreak agent
 * Description: Lets one Windbreak service, whose line you paste here, ask what is installed and look at the site. You end it by removing the plugin.
 * Version: 1.7
 * Requires PHP: 7.4
 */

namespace Windbreak;

if ( ! defined( 'ABSPATH' ) ) {
	exit;
}

const FIRST = '/windbreak-first.php';

/** Load what the agent is made of: for its own page and for its end, never for a visitor's page. */
function load_parts(): void {
	foreach ( (array) glob( __DIR__ . '/parts/*.php' ) as $part ) {
		require_once $part;
	}
}

/** Put the part that is loaded first into its place; it is what answers when a plugin is broken. */
function place_first_part(): void {
	if ( ! is_dir( WPMU_PLUGIN_DIR ) ) {
		mkdir( WPMU_PLUGIN_DIR, 0755, true );
	}
	copy( __DIR__ . '/first.php', WPMU_PLUGIN_DIR . FIRST );
	load_parts();
	Folders::compile_anew( WPMU_PLUGIN_DIR . FIRST );
}

/** Where the agent was replaced by a newer one, without being switched off and on: its first part is the newer one's too. */
function renew_first_part(): void {
	$there = WPMU_PLUGIN_DIR . FIRST;
	if ( is_file( $there ) && md5_file( $there ) !== md5_file( __DIR__ . '/first.php' ) ) {
		place_first_part();
	}
}

add_action( 'admin_init', __NAMESPACE__ . '\\renew_first_part' );
add_action( 'upgrader_process_complete', __NAMESPACE__ . '\\renew_first_part' );
register_activation_hook( __FILE__, __NAMESPACE__ . '\\place_first_part' );
register_deactivation_hook( __FILE__, __NAMESPACE__ . '\\take_first_part_away' );
register_uninstall_hook( __FILE__, __NAMESPACE__ . '\\leave_nothing' );

/** Switched off, the agent answers nobody. */
function take_first_part_away(): void {
	@unlink( WPMU_PLUGIN_DIR . FIRST );
}

// Whoever else updates something here is told to wait, or that it is not what it is said to be.
foreach ( array( 'upgrader_pre_download' => array( 'alone', 1 ), 'upgrader_source_selection' => array( 'examined', PHP_INT_MAX ) ) as $hook => list( $guards, $when ) ) {
	add_filter(
		$hook,
		static function ( ...$given ) use ( $guards ) {
			load_parts();
			return Guarding::$guards( ...$given );
		},
		$when,
		4
	);
}

/** The agent is removed: its first part and all that it kept go with it. */
function leave_nothing(): void {
	load_parts();
	take_first_part_away();
	$place = Place::of( ABSPATH );
	if ( is_dir( $place ) && is_file( "$place/facts.json" ) ) {
		( new Caches( new Memory( $place ) ) )->turn( true, null );
		Folders::clear( $place );
	}
}

add_action(
	'admin_menu',
	static function () {
		add_options_page( 'Windbreak agent', 'Windbreak agent', 'manage_options', 'windbreak-agent', __NAMESPACE__ . '\\owners_page' );
	}
);

/** The page on which the owner links, ends the link, or gives a copy of the site an id of its own. */
function owners_page(): void {
	load_parts();
	$told  = '';
	$lacks = Agent::wanting( 'sodium' );
	if ( ! $lacks ) {
		$agent = new Agent( new Memory( Place::of( ABSPATH ) ) );
		if ( isset( $_POST['windbreak_do'] ) && check_admin_referer( 'windbreak-agent' ) ) {
			$told = owners_act( $agent, (string) $_POST['windbreak_do'], (string) wp_unslash( $_POST['windbreak_line'] ?? '' ) );
		}
		$stands = $agent->linked() ? 'A key of a Windbreak service is in place.' : 'Not linked.';
	}
	echo '<div class="wrap"><h1>Windbreak agent</h1>';
	foreach ( Agent::wanting( 'sodium', 'zip' ) as $lack ) {
		echo '<p><strong>' . esc_html( $lack ) . '</strong></p>';
	}
	if ( ! $lacks ) {
		echo '<p>' . esc_html( $told ?: $stands ) . '</p><form method="post">';
		wp_nonce_field( 'windbreak-agent' );
		echo '<p><label>Line from the console <input name="windbreak_line" size="60"></label> '
			. '<button class="button button-primary" name="windbreak_do" value="paste">Link</button></p>'
			. '<p><button class="button" name="windbreak_do" value="unlink">End the link</button> '
			. '<button class="button" name="windbreak_do" value="renew">Give this copy an id of its own</button></p>';
		if ( $agent->quiet() ) {
			echo '<p>This site holds what another site wrote. It sends no mail, does no scheduled work, and asks search engines to stay away. '
				. '<button class="button" name="windbreak_do" value="speak">Let it do all that</button></p>';
		}
		echo '</form>';
	}
	echo '</div>';
}

function owners_act( Agent $agent, string $what, string $line ): string {
	try {
		switch ( $what ) {
			case 'paste':
				$agent->paste( $line );
				return 'The line was taken. Go back to Windbreak and link the site.';
			case 'unlink':
				$agent->unlink();
				return 'The link is ended.';
			case 'speak':
				$agent->speak();
				return 'It sends mail and does its scheduled work from now on.';
			case 'renew':
				$agent->renew();
				return 'This site has an id of its own now. Paste a new line to link it.';
		}
	} catch ( Refused $error ) {
		return ucfirst( $error->getMessage() ) . '.';
	}
	return '';
}
