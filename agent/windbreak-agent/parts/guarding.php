<?php
/**
 * A second net, at the hooks of the system's own upgraders: where somebody else than the service
 * updates something here, one of both waits for the other, and what is not what it is said to be
 * is refused before anything is touched.
 */

namespace Windbreak;

final class Guarding {
	const QUIET = 900; // seconds without a change after which a run is no longer waited for

	/** @var resource|null  the agent's lock, held until this request ends */
	private static $held = null;
	/** @var array  the plugins that were on before the system's upgrader began, here and for a whole network: it switches off what it updates */
	private static $on = array();

	/** Whether anything is guarded at all: while a service is linked. */
	private static function memory(): ?Memory {
		$place = Place::of( ABSPATH );
		try {
			$memory = is_file( "$place/facts.json" ) ? new Memory( $place ) : null;
		} catch ( \RuntimeException $error ) {
			return null;
		}
		return null !== $memory && null !== $memory->fact( 'service' ) ? $memory : null;
	}

	/** Before the system's upgrader fetches anything: it has the agent's lock, or it is told to wait. */
	public static function alone( $reply ) {
		$memory = self::memory();
		if ( null === $memory || null !== self::$held ) {
			return $reply;
		}
		self::$on   = array( get_option( 'active_plugins' ), is_multisite() ? get_site_option( 'active_sitewide_plugins' ) : null );
		$at_work    = null !== $memory->fact( 'at-work' ) && filemtime( "$memory->place/changes" ) > time() - self::QUIET;
		self::$held = $at_work ? null : $memory->lock();
		return null !== self::$held ? $reply : new \WP_Error(
			'windbreak_at_work',
			'Windbreak is updating this site, and will be done in some minutes. Nothing was touched. Try again then.'
		);
	}

	/** Before the system's upgrader touches anything: is it what it is said to be? */
	public static function examined( $source, $remote, $upgrader, $extra ) {
		if ( is_wp_error( $source ) || null === self::memory() ) {
			return $source;
		}
		foreach ( array( 'plugin' => 'update_plugins', 'theme' => 'update_themes' ) as $kind => $record ) {
			if ( ! empty( $extra[ $kind ] ) ) {
				$why = self::wrong( $kind, (string) $extra[ $kind ], rtrim( (string) $source, '/' ), get_site_transient( $record ) );
				if ( '' !== $why ) {
					null !== self::$held && self::switch_on_again();
					empty( $upgrader->bulk ) && $upgrader->maintenance_mode( false ); // it would leave the page up
					return new \WP_Error( 'windbreak_wrong_archive', "This package is not what it is said to be: $why. Nothing was touched." );
				}
			}
		}
		return $source;
	}

	private static function switch_on_again(): void {
		list( $here, $everywhere ) = self::$on;
		update_option( 'active_plugins', $here );
		null !== $everywhere && update_site_option( 'active_sitewide_plugins', $everywhere );
	}

	/** What is wrong with an opened package of a plugin, by its main file, or of a theme, by its folder; empty where nothing is. */
	private static function wrong( string $kind, string $name, string $folder, $record ): string {
		$own = 'theme' === $kind ? $name : dirname( $name );
		if ( '.' !== $own && basename( $folder ) !== $own ) {
			return 'its folder is ' . basename( $folder ) . ", and not $own";
		}
		$version = Site::version_in( "$kind/" . Site::slug( $own ), $folder );
		if ( null === $version || ( 'plugin' === $kind && ! is_file( "$folder/" . basename( $name ) ) ) ) {
			return "it holds no $kind that works";
		}
		$offer  = is_object( $record ) ? (array) ( $record->response[ $name ] ?? array() ) : array();
		$wanted = (string) ( $offer['new_version'] ?? $version );
		return $wanted === $version ? '' : "it holds version $version, and not $wanted";
	}
}
