<?php
/**
 * What the system's own checks of its health say. They need all of the system and its plugins, so
 * they are asked apart, and what they said is remembered: whoever asks what is here is never kept
 * waiting by them, nor by a plugin that breaks them.
 */

namespace Windbreak;

final class Health {
	const FILE = 'health.json';
	const KEPT = 86400;   // seconds for which it counts what they said
	const OURS = array( 'wordpress_version', 'plugin_version', 'theme_version' ); // what the service itself tracks

	/** Ask each of the system's own checks that needs nobody who is signed in, and nobody outside, and remember what it says. */
	public static function ask( Memory $memory ): array {
		require_once ABSPATH . 'wp-admin/includes/admin.php';
		require_once ABSPATH . 'wp-admin/includes/class-wp-site-health.php';
		$health = \WP_Site_Health::get_instance();
		$checks = array();
		foreach ( (array) ( \WP_Site_Health::get_tests()['direct'] ?? array() ) as $id => $test ) {
			$asked = is_string( $test['test'] ) ? array( $health, "get_test_{$test['test']}" ) : $test['test'];
			if ( in_array( $id, self::OURS, true ) || ! empty( $test['skip_cron'] ) || ! is_callable( $asked ) ) {
				continue;
			}
			try {
				$told = (array) apply_filters( 'site_status_test_result', call_user_func( $asked ) );
			} catch ( \Throwable $error ) {
				$told = array( 'status' => 'critical', 'label' => 'It can’t be asked: ' . $error->getMessage() );
			}
			$checks[] = self::check( (string) $id, (string) $test['label'], (string) ( $told['status'] ?? '' ), (string) ( $told['label'] ?? '' ) );
		}
		$memory->write( self::FILE, array( 'at' => time(), 'checks' => $checks ) );
		return $checks;
	}

	/** What they said last; nothing where that was too long ago. */
	public static function remembered( Memory $memory ): array {
		$last = $memory->read( self::FILE );
		return null !== $last && $last['at'] > time() - self::KEPT ? (array) $last['checks'] : array();
	}

	private static function check( string $id, string $name, string $status, string $text ): array {
		$state = array( 'good' => 'good', 'critical' => 'critical' )[ $status ] ?? 'minor';
		$id    = substr( 'system-' . Site::slug( $id ), 0, 60 );
		$plain = static function ( string $words ) {
			return substr( trim( html_entity_decode( wp_strip_all_tags( $words ), ENT_QUOTES ) ), 0, 200 );
		};
		return array( 'id' => $id, 'name' => $plain( $name ), 'state' => $state, 'text' => 'good' === $state ? '' : $plain( $text ) );
	}
}
