<?php
/**
 * What the agent switched for a run and has not switched back: plugins, caches and automatic updates
 * that were on, the maintenance page that was down; each with its change. Whoever drives the site
 * next learns it from here, whatever is in their books.
 */

namespace Windbreak;

final class Held {
	const FILE = 'held.json';

	/** Note what is about to be switched, with what it was: unless it is switched back, or on for the first time. */
	public static function note( Memory $memory, string $kind, string $name, bool $was, bool $on, string $change ): void {
		if ( $was === $on || $was === ( 'page' === $kind ) ) {
			return;
		}
		$every = $memory->read( self::FILE ) ?? array();
		if ( ! isset( $every[ "$kind $name" ] ) ) {
			$every[ "$kind $name" ] = compact( 'kind', 'name', 'was', 'change' );
			$memory->write( self::FILE, $every );
		}
	}

	/** What is still otherwise than it was; the rest is forgotten. */
	public static function still( Memory $memory ): array {
		$every = $memory->read( self::FILE ) ?? array();
		$held  = array_filter(
			$every,
			static function ( $one ) use ( $memory ) {
				return self::is_on( $memory, $one['kind'], $one['name'] ) !== $one['was'];
			}
		);
		if ( count( $held ) !== count( $every ) ) {
			$memory->write( self::FILE, $held );
		}
		return array_values( $held );
	}

	/** Whether something is on now; of what is gone, nothing is held. */
	private static function is_on( Memory $memory, string $kind, string $name ): bool {
		switch ( $kind ) {
			case 'page':
				return Page::is_up( $memory );
			case 'updates':
				return Site::updates_itself( $memory );
			case 'cache':
				return ( new Caches( $memory ) )->there()[ $name ] ?? true;
		}
		$file = Site::main_file( $name );
		$on   = array_merge( (array) get_option( 'active_plugins', array() ), Site::on_everywhere() );
		return null === $file || in_array( $file, $on, true );
	}
}
