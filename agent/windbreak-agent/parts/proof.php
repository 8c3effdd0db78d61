<?php
/**
 * Whether the agent's state can be had over HTTP. It is asked for, as a stranger would: a file of
 * its own, under the addresses of the site and of the folders above it. Where it comes, the agent
 * reads, and changes nothing, until it is given a folder that no web server serves.
 */

namespace Windbreak;

final class Proof {
	const DEEP     = 4;     // folders of the place that may be a web root's
	const PATIENCE = 3;     // seconds for one answer
	const KEPT     = 43200; // seconds for which an answer counts

	/** Ask, unless that was done a while ago; then whether it is served is remembered. */
	public static function renew( Memory $memory ): void {
		if ( (int) $memory->fact( 'proven' ) < time() - self::KEPT ) {
			self::ask( $memory );
		}
	}

	/** Ask now. */
	public static function ask( Memory $memory ): void {
		$name = 'proof-' . bin2hex( random_bytes( 8 ) ) . '.txt';
		$text = bin2hex( random_bytes( 16 ) );
		$file = "$memory->place/$name";
		if ( false === file_put_contents( $file, $text ) ) {
			return;
		}
		chmod( $file, 0644 );
		$served = null;
		foreach ( self::addresses( home_url(), (string) realpath( $memory->place ) ) as $address ) {
			$answer = wp_remote_get( "$address/$name", array( 'timeout' => self::PATIENCE, 'redirection' => 0, 'sslverify' => false, 'limit_response_size' => 1024 ) );
			if ( ! is_wp_error( $answer ) && false !== strpos( (string) wp_remote_retrieve_body( $answer ), $text ) ) {
				$served = $address;
				break;
			}
		}
		unlink( $file );
		$memory->set( array( 'served' => $served, 'proven' => (string) time() ) );
	}

	/** What is wanting, in a sentence or two; empty where nothing is. */
	public static function wanting( Memory $memory ): string {
		$served = $memory->fact( 'served' );
		return null === $served ? '' : "Anybody can read the agent’s state ($memory->place) at $served. "
			. 'Until you move it, the agent only reads, and changes nothing. ' . self::what_to_do();
	}

	/** How the agent is given a folder of its own. */
	public static function what_to_do(): string {
		return 'Make a folder that your web server does not serve and PHP may write in, '
			. 'for example: mkdir -m 700 /var/lib/windbreak && chown ' . self::whom() . ' /var/lib/windbreak. '
			. "Then put into wp-config.php, above “That’s all”: define( 'WINDBREAK_STATE', '/var/lib/windbreak' ); and open Settings, Windbreak agent.";
	}

	private static function whom(): string {
		$user = function_exists( 'posix_geteuid' ) ? posix_getpwuid( posix_geteuid() ) : false;
		return (string) ( $user['name'] ?? 'www-data' );
	}

	/** Where a place could be had: the last folders of its path, under each folder of the site's own address. */
	private static function addresses( string $home, string $place ): array {
		$parts  = (array) wp_parse_url( $home );
		$origin = ( $parts['scheme'] ?? 'http' ) . '://' . ( $parts['host'] ?? '' ) . ( isset( $parts['port'] ) ? ":{$parts['port']}" : '' );
		$above  = array( '' );
		foreach ( array_filter( explode( '/', (string) ( $parts['path'] ?? '' ) ), 'strlen' ) as $folder ) {
			$above[] = end( $above ) . "/$folder";
		}
		$names = array_values( array_filter( explode( '/', $place ), 'strlen' ) );
		$found = array();
		foreach ( $above as $folder ) {
			for ( $deep = 1; $deep <= min( self::DEEP, count( $names ) ); $deep++ ) {
				$found[] = $origin . $folder . '/' . implode( '/', array_map( 'rawurlencode', array_slice( $names, -$deep ) ) );
			}
		}
		return $found;
	}
}
