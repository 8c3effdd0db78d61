<?php
/**
 * Where the agent of a site keeps its state: beside the web root, never in it. Alone in its file,
 * since every request to the site asks it.
 */

namespace Windbreak;

final class Place {
	public static function of( string $root ): string {
		if ( defined( 'WINDBREAK_STATE' ) ) {
			return rtrim( WINDBREAK_STATE, '/' );
		}
		$root = rtrim( $root, '/' );
		return dirname( $root ) . '/.windbreak-' . substr( hash( 'sha256', $root ), 0, 12 );
	}
}
