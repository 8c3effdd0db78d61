<?php
/**
 * What a plugin or theme offers the agent of its own accord, by three filters of ours: it takes a
 * licence code, tells how it is registered, makes anew what it generates from itself. The system
 * has no way for any of these that all share, so who does not answer is left to a person.
 */

namespace Windbreak;

final class Offers {
	const FILE = 'registrations.json';
	const KEPT = 86400; // seconds for which it counts what they told

	/** Give a component its code. Throws Failed. */
	public static function register( Memory $memory, string $product, string $code ): array {
		self::took( apply_filters( 'windbreak_register', null, $product, $code ), "nothing here takes a code for $product" );
		self::registrations( $memory );
		return array();
	}

	/** Have a component make anew what it generates. Throws Failed. */
	public static function regenerate( string $product ): array {
		self::took( apply_filters( 'windbreak_regenerate', null, $product ), "nothing here makes anew what $product generates" );
		return array();
	}

	/** Throw Failed unless somebody said that it was done. */
	private static function took( $said, string $nobody ): void {
		if ( null === $said ) {
			throw new Failed( 'not-permitted', $nobody );
		}
		if ( true !== $said ) {
			throw new Failed( 'unknown', is_string( $said ) ? substr( $said, 0, 400 ) : 'it was not done' );
		}
	}

	/** How each component that tells it is registered; remembered, since asking needs all of the system. */
	public static function registrations( Memory $memory ): array {
		$told = array();
		foreach ( (array) apply_filters( 'windbreak_registrations', array() ) as $product => $one ) {
			$state = is_array( $one ) ? (string) ( $one['state'] ?? '' ) : '';
			$until = (string) ( $one['until'] ?? '' );
			$last  = (string) ( $one['last4'] ?? '' );
			if ( preg_match( '#^(plugin|theme)/[a-z0-9-]+$#', (string) $product ) && in_array( $state, array( 'registered', 'grace', 'missing' ), true ) ) {
				$told[] = array(
					'product' => $product,
					'state'   => $state,
					'until'   => preg_match( '/^\d{4}-\d\d-\d\d$/', $until ) ? $until : null,
					'last4'   => preg_match( '/^[\x21-\x7E]{4}$/', $last ) ? $last : null,
				);
			}
		}
		$memory->write( self::FILE, array( 'at' => time(), 'told' => $told ) );
		return $told;
	}

	/** What they told last; nothing where that was too long ago. */
	public static function remembered( Memory $memory ): array {
		$last = $memory->read( self::FILE );
		return null !== $last && $last['at'] > time() - self::KEPT ? (array) $last['told'] : array();
	}
}
