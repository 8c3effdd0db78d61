<?php
/**
 * The maintenance page: 503 for visitors, until it is taken away or its end has come. Each call of
 * the service puts the end off, so that it ends by itself only where nobody looks after it. Whoever
 * keeps the site still signs in, and sees the agent's own page.
 */

namespace Windbreak;

final class Page {
	const FACT    = 'page';
	const STANDS  = 43200; // seconds after the last call of the service until it ends by itself
	const RENEWED = 3600;  // seconds from its end by which a call puts it off
	const RETRY   = 120;   // seconds until a visitor is told to come again

	const NO_SIGN_IN = array( 'register', 'lostpassword', 'retrievepassword', 'resetpass', 'rp', 'confirmaction' ); // what the sign-in's file does besides, and writes

	/** Until when it stands, by what the agent remembers: 0 where it is down; of an older agent, for ever. */
	public static function until( array $facts ): int {
		$until = (int) ( $facts[ self::FACT ] ?? 0 );
		return 1 === $until ? PHP_INT_MAX : ( $until > time() ? $until : 0 );
	}

	public static function is_up( Memory $memory ): bool {
		return 0 !== self::until( array( self::FACT => $memory->fact( self::FACT ) ) );
	}

	public static function put( Memory $memory, bool $up ): void {
		$memory->set( array( self::FACT => $up ? self::end() : null ) );
	}

	private static function end(): string {
		return (string) ( time() + self::STANDS );
	}

	/** The service looks after it: its end is put off. */
	public static function put_off( Memory $memory ): void {
		if ( self::is_up( $memory ) && (int) $memory->fact( self::FACT ) < time() + self::STANDS - self::RENEWED ) {
			$memory->set( array( self::FACT => self::end() ), true ); // it may have been taken away this instant
		}
	}

	/** Whether a request is for the sign-in, or for the agent's own page. */
	public static function is_open( string $path ): bool {
		$own    = 'windbreak-agent' === ( $_GET['page'] ?? '' );
		$enters = preg_match( '#/wp-login\.php$#', $path ) && ! in_array( $_REQUEST['action'] ?? '', self::NO_SIGN_IN, true );
		return $enters || ( $own && self::is_of_agent( $path ) );
	}

	/** Whether a path is of the screens under which the agent's own page lies. */
	public static function is_of_agent( string $path ): bool {
		return (bool) preg_match( '#/wp-admin/(?:options-general|network/settings)\.php$#', $path );
	}

	/** Show it, and end the request. */
	public static function show(): void {
		http_response_code( 503 );
		header( 'Retry-After: ' . self::RETRY );
		header( 'Content-Type: text/html; charset=utf-8' );
		header( 'Cache-Control: no-store' );
		$screen = is_multisite() ? '/wp-admin/network/settings.php' : '/wp-admin/options-general.php';
		$wanted = rawurlencode( get_option( 'siteurl' ) . "$screen?page=windbreak-agent" );
		$enter  = htmlspecialchars( get_option( 'siteurl' ) . "/wp-login.php?redirect_to=$wanted", ENT_QUOTES );
		echo '<!doctype html><title>Back soon</title><h1>Back soon</h1>' // phpcs:ignore
			. "<p><small>Do you keep this site? <a href=\"$enter\" rel=\"nofollow\">Sign in</a> to see why, and to take this page away.</small></p>";
		exit;
	}
}
