<?php
/**
 * The looking pass: for some minutes, one that holds it sees the pages behind the maintenance page,
 * and the editor opened on the newest page. It reads, and nothing else: whatever such a request
 * would write, into the database too, is left undone.
 */

namespace Windbreak;

final class Passing {
	const SECONDS = 300;
	const RIGHTS  = array( 'read', 'edit_posts', 'edit_pages', 'edit_published_posts', 'edit_published_pages' ); // less than an editor has
	const SHOWN   = array( 'publish', 'inherit' ); // what has another status is nobody's to see
	const PRIVATE = array( 'email', 'username', 'first_name', 'last_name', 'nickname', 'registered_date', 'meta', 'roles', 'capabilities', 'extra_capabilities' );

	/** Give a new one out; only its sum is kept. */
	public static function give( Memory $memory ): string {
		$pass = Signing::text( random_bytes( 18 ) );
		$memory->write( 'pass.json', array( 'pass' => hash( 'sha256', $pass ), 'until' => time() + self::SECONDS ) );
		return $pass;
	}

	/** Whether one is good; it stays so for its minutes. */
	public static function holds( string $place, string $pass ): bool {
		$kept = is_file( "$place/pass.json" ) ? (array) json_decode( (string) file_get_contents( "$place/pass.json" ), true ) : array();
		return '' !== $pass && isset( $kept['pass'], $kept['until'] ) && $kept['until'] > time() && hash_equals( (string) $kept['pass'], hash( 'sha256', $pass ) );
	}

	/** Whether a request asks, and in no way tells the system to do something. */
	public static function only_reads(): bool {
		$method = (string) ( $_SERVER['REQUEST_METHOD'] ?? '' );
		return in_array( $method, array( 'GET', 'HEAD' ), true ) && ! isset( $_GET['_method'] ) && ! isset( $_SERVER['HTTP_X_HTTP_METHOD_OVERRIDE'] ) && ! isset( $_SERVER['HTTP_X_HTTP_METHOD'] );
	}

	/** Where a browser opens the editor: on the newest page or post. */
	public static function editor(): string {
		$posts = self::newest();
		return $posts ? "/wp-admin/post.php?post={$posts[0]->ID}&action=edit" : '';
	}

	private static function newest(): array {
		global $wpdb;
		return (array) $wpdb->get_results( "SELECT ID, post_author FROM $wpdb->posts WHERE post_status = 'publish' AND post_type IN ('page', 'post') ORDER BY ID DESC LIMIT 1" );
	}

	/** Whether a request is one that an opened editor makes to read. */
	public static function is_of_editor( string $path ): bool {
		$asks = isset( $_GET['rest_route'] ) || preg_match( '#/wp-json(/|$)#', $path );
		return self::only_reads() && ( $asks || ( preg_match( '#/wp-admin/post\.php$#', $path ) && 'edit' === ( $_GET['action'] ?? '' ) ) );
	}

	/** Let one request see the editor, as somebody who may edit what is published and nothing more. */
	public static function open_editor(): void {
		$GLOBALS['super_admins'] = array(); // of a network: such a user may do everything, whatever the rights
		self::show_only_what_is_published();
		self::send_nothing();
		$posts = self::newest();
		$user  = $posts ? (int) $posts[0]->post_author : 0;
		add_filter(
			'query',
			static function ( $statement ) {
				return preg_match( '/^\s*\(*\s*(select|show|describe|set|explain)\b/i', (string) $statement ) ? $statement : 'DO 0';
			},
			PHP_INT_MAX
		);
		add_filter(
			'determine_current_user',
			static function () use ( $user ) {
				return $user;
			},
			PHP_INT_MAX
		);
		add_filter(
			'user_has_cap',
			static function () {
				return array_fill_keys( self::RIGHTS, true );
			},
			PHP_INT_MAX
		);
		add_action(
			'admin_init',
			static function () {
				foreach ( array( '_maybe_update_core', '_maybe_update_plugins', '_maybe_update_themes' ) as $asks_outside ) {
					remove_action( 'admin_init', $asks_outside );
				}
			},
			0
		);
		add_filter( 'user_can_richedit', '__return_true', PHP_INT_MAX ); // whatever asks for the browser
		add_filter( 'wp_is_application_passwords_available', '__return_false' );
		add_filter( 'rest_authentication_errors', '__return_true', PHP_INT_MAX ); // it can only read
	}

	private static function show_only_what_is_published(): void {
		add_filter(
			'posts_where',
			static function ( $where ) {
				global $wpdb;
				return "$where AND $wpdb->posts.post_status IN ('" . implode( "','", self::SHOWN ) . "')";
			},
			PHP_INT_MAX
		);
		add_filter(
			'map_meta_cap',
			static function ( $needs, $right, $user, $args ) {
				$of_post = in_array( $right, array( 'read_post', 'read_page', 'edit_post', 'edit_page' ), true );
				$status  = $of_post && isset( $args[0] ) ? get_post_status( $args[0] ) : 'publish';
				return in_array( $status, self::SHOWN, true ) ? $needs : array( 'do_not_allow' );
			},
			PHP_INT_MAX,
			4
		);
		foreach ( array( 'rest_prepare_user', 'rest_prepare_comment' ) as $hook ) {
			add_filter(
				$hook,
				static function ( $answer ) {
					$told = array_diff_key( (array) $answer->get_data(), array_flip( array_merge( self::PRIVATE, array( 'author_email', 'author_ip', 'author_user_agent' ) ) ) );
					$answer->set_data( $told );
					return $answer;
				},
				PHP_INT_MAX
			);
		}
	}

	/** Neither mail nor anything else leaves, and no scheduled work is begun. */
	private static function send_nothing(): void {
		add_filter( 'pre_wp_mail', '__return_true', PHP_INT_MAX );
		add_filter( 'pre_get_ready_cron_jobs', '__return_empty_array', PHP_INT_MAX );
		add_filter(
			'pre_http_request',
			static function () {
				return new \WP_Error( 'windbreak_reads', 'A look asks nobody outside.' );
			},
			PHP_INT_MAX
		);
	}

	/** The newest page or post as its blocks, each rendered by whatever renders it now. */
	public static function show_blocks(): void {
		$posts = get_posts( array( 'post_type' => array( 'page', 'post' ), 'numberposts' => 1, 'orderby' => 'ID' ) );
		$shown = '';
		foreach ( parse_blocks( $posts ? $posts[0]->post_content : '' ) as $n => $block ) {
			if ( null !== $block['blockName'] || '' !== trim( $block['innerHTML'] ) ) {
				$shown .= "<div data-block=\"$n\">" . render_block( $block ) . '</div>';
			}
		}
		nocache_headers();
		echo "<!doctype html><title>Blocks</title><h1>Blocks</h1><main>$shown</main>"; // phpcs:ignore
		exit;
	}
}
