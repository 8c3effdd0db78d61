<?php
/**
 * Where the agent of a site keeps its state: beside the web root, never in it. Alone in its file,
 * since every request to the site asks it.
 */

namespace Windbreak;

final class Place {
	/** The folder of the site under a root; where it has none yet, one whose name nobody can reckon. */
	public static function of( string $root ): string {
		if ( defined( 'WINDBREAK_STATE' ) ) {
			return rtrim( WINDBREAK_STATE, '/' );
		}
		$root  = rtrim( $root, '/' );
		$head  = dirname( $root ) . '/.windbreak-' . substr( hash( 'sha256', $root ), 0, 12 );
		$there = (array) glob( addcslashes( $head, '*?[\\' ) . '*', GLOB_ONLYDIR );
		return $there ? (string) $there[0] : "$head-" . bin2hex( random_bytes( 16 ) );
	}
}
