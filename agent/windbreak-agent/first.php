<?php
/**
 * Plugin Name: Windbreak agent, first part
 * Description: Answers signed calls before any plugin or theme is loaded, so that a broken site can still be asked and put back. Placed here by the Windbreak agent; it goes with it.
 */

namespace Windbreak;

if ( ! defined( 'ABSPATH' ) ) {
	exit;
}

( static function () {
	$parts = WP_CONTENT_DIR . '/plugins/windbreak-agent/parts';
	if ( ! is_dir( $parts ) ) {
		return;
	}
	require_once "$parts/place.php";
	$place = Place::of( ABSPATH );
	$path  = (string) parse_url( (string) ( $_SERVER['REQUEST_URI'] ?? '' ), PHP_URL_PATH );
	// A call without a signature is none of ours: the system answers it as if there were no agent.
	$called = 'POST' === ( $_SERVER['REQUEST_METHOD'] ?? '' ) && isset( $_SERVER['HTTP_SIGNATURE_INPUT'] ) && preg_match( '#/_windbreak/([a-z-]{1,40})$#', $path, $call );
	if ( $called ) {
		foreach ( (array) glob( "$parts/*.php" ) as $part ) {
			require_once $part;
		}
		ini_set( 'display_errors', '0' );
		ignore_user_abort( true );
		$lacks = Agent::wanting( 'sodium' );
		try {
			if ( $lacks ) {
				throw new \RuntimeException( $lacks[0] );
			}
			$why = Memory::is_one( $place ) ? '' : Memory::wanting( $place );
			if ( '' !== $why ) {
				throw new \RuntimeException( $why );
			}
			if ( ! Memory::is_one( $place ) ) { // a stranger makes nothing here
				http_response_code( 401 );
				header( 'Content-Type: application/json' );
				echo json_encode( array( 'code' => 'not-permitted', 'detail' => 'no key of a service is in place here' ) ); // phpcs:ignore
				exit;
			}
			$memory = new Memory( $place );
		} catch ( \RuntimeException $error ) {
			http_response_code( 503 );
			header( 'Content-Type: application/json' );
			echo json_encode( array( 'code' => 'unknown', 'detail' => $error->getMessage() ) ); // phpcs:ignore
			exit;
		}
		( new Agent( $memory ) )->serve( $call[1] );
	}
	$facts = is_file( "$place/facts.json" ) ? (array) json_decode( (string) file_get_contents( "$place/facts.json" ), true ) : array();
	if ( isset( $facts['updates-paused'] ) ) {
		add_filter( 'automatic_updater_disabled', '__return_true', PHP_INT_MAX );
	}
	if ( isset( $facts['quiet'] ) ) { // what another site wrote here is nobody's mail, and nobody's work
		add_filter( 'pre_wp_mail', '__return_true', PHP_INT_MAX );
		add_filter( 'pre_get_ready_cron_jobs', '__return_empty_array', PHP_INT_MAX );
		add_filter(
			'pre_option_blog_public',
			static function () {
				return '0';
			},
			PHP_INT_MAX
		);
	}
	$pass = (string) ( $_SERVER['HTTP_WINDBREAK_PASS'] ?? '' ); // never in an address, which logs keep
	$good = false;
	if ( '' !== $pass ) {
		require_once "$parts/passing.php";
		$good = Passing::only_reads() && Passing::holds( $place, $pass );
	}
	if ( isset( $facts['page'] ) && ! $good && ! $called && 'cli' !== PHP_SAPI ) {
		require_once "$parts/page.php";
		if ( 0 !== Page::until( $facts ) ) {
			if ( ! Page::is_open( $path ) ) {
				Page::show();
			} elseif ( Page::is_of_agent( $path ) ) { // with nothing beside that may be broken
				$own = 'windbreak-agent/windbreak-agent.php';
				add_filter(
					'option_active_plugins',
					static function ( $on ) use ( $own ) {
						return array_values( array_intersect( (array) $on, array( $own ) ) );
					},
					PHP_INT_MAX
				);
				add_filter(
					'site_option_active_sitewide_plugins',
					static function ( $on ) use ( $own ) {
						return array_intersect_key( (array) $on, array( $own => 0 ) );
					},
					PHP_INT_MAX
				);
			}
		}
	}
	if ( isset( $facts['service'] ) && ! $good && ! $called && is_file( "$parts/writes.php" ) ) {
		require_once "$parts/writes.php";
		Writes::watch( $place );
	}
	if ( $good && isset( $_GET['windbreak-blocks'] ) ) {
		add_action( 'template_redirect', array( Passing::class, 'show_blocks' ), 0 );
	} elseif ( $good && Passing::is_of_editor( $path ) ) {
		require_once dirname( $parts ) . '/opened.php';
		Passing::open_editor();
	}
} )();
