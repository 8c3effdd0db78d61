<?php
/**
 * Plugin Name: Windbreak agent
 * Description: Lets one Windbreak service, whose line you paste here, ask what is installed and look at the site. You end it by removing the plugin.
 * Version: 1.8
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
function guard( ...$given ) {
	load_parts();
	return 'upgrader_pre_download' === current_filter() ? Guarding::alone( ...$given ) : Guarding::examined( ...$given );
}

add_filter( 'upgrader_pre_download', __NAMESPACE__ . '\\guard', 1, 4 );
add_filter( 'upgrader_source_selection', __NAMESPACE__ . '\\guard', PHP_INT_MAX, 4 );

/** The agent is removed: its first part and all that it kept go with it. */
function leave_nothing(): void {
	load_parts();
	take_first_part_away();
	$place = Place::of( ABSPATH );
	if ( Memory::is_one( $place ) ) {
		( new Caches( new Memory( $place ) ) )->turn( true, null );
		Folders::clear( $place );
	}
}

/** Who may link the site: whoever may put code there. Of a network that is who keeps the network, never who keeps one member; where nobody may, who may switch plugins sees why. */
function right_to_link(): string {
	if ( is_multisite() ) {
		return 'manage_network_plugins';
	}
	load_parts();
	return Agent::sealed() ? 'activate_plugins' : 'install_plugins';
}

/** Place the agent's own page among the settings; of a network, among those of the network, and of its main site. */
function place_page(): void {
	$under = is_network_admin() ? 'settings.php' : 'options-general.php';
	if ( is_main_site() ) {
		add_submenu_page( $under, 'Windbreak agent', 'Windbreak agent', right_to_link(), 'windbreak-agent', __NAMESPACE__ . '\\owners_page' );
	}
}

add_action( 'admin_menu', __NAMESPACE__ . '\\place_page' );
add_action( 'network_admin_menu', __NAMESPACE__ . '\\place_page' );

/** The page on which the owner links, ends the link, takes the maintenance page away, or gives a copy of the site an id of its own. */
function owners_page(): void {
	load_parts();
	$told  = '';
	$lacks = Agent::wanting( 'sodium' );
	if ( ! current_user_can( right_to_link() ) ) {
		$lacks = array( 'Only who may install plugins here may see this.' );
	}
	try {
		$memory = $lacks ? null : new Memory( Place::of( ABSPATH ) );
	} catch ( \RuntimeException $error ) {
		$lacks = array( $error->getMessage() );
	}
	if ( ! $lacks ) {
		$agent = new Agent( $memory );
		null !== $memory->fact( 'served' ) ? Proof::ask( $memory ) : Proof::renew( $memory );
		if ( isset( $_POST['windbreak_do'] ) && check_admin_referer( 'windbreak-agent' ) ) {
			$told = owners_act( $agent, (string) $_POST['windbreak_do'], (string) wp_unslash( $_POST['windbreak_line'] ?? '' ) );
		}
		$stands = $agent->linked() ? 'A key of a Windbreak service is in place.' : 'Not linked.';
	}
	echo '<div class="wrap"><h1>Windbreak agent</h1>';
	foreach ( $lacks ?: $agent->lacks() as $lack ) {
		echo '<p><strong>' . esc_html( $lack ) . '</strong></p>';
	}
	if ( ! $lacks ) {
		echo '<p>' . esc_html( $told ?: $stands ) . '</p><form method="post">';
		wp_nonce_field( 'windbreak-agent' );
		if ( Page::is_up( $memory ) ) {
			$until = Page::until( array( Page::FACT => $memory->fact( Page::FACT ) ) );
			$ends  = PHP_INT_MAX === $until ? 'It has no end of its own.' : 'Without a word of the service it ends at ' . wp_date( 'H:i', $until ) . '.';
			echo '<p>Visitors see “Back soon”: a Windbreak service put that up, and takes it away when its work is done. ' . esc_html( $ends )
				. ' <button class="button" name="windbreak_do" value="page-down">Take it away now</button><br>The pages may be broken behind it; look at them then.</p>';
		}
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
			case 'page-down':
				$agent->take_page_away();
				return 'Visitors see the pages again. Look at them now.';
			case 'paste':
				if ( Agent::sealed() ) {
					throw new Refused( 'nobody may put code here (DISALLOW_FILE_MODS), so nobody may link it either' );
				}
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
