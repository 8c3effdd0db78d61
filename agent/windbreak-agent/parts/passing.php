<?php
/**
 * The looking pass: for some minutes, one that holds it sees the pages behind the maintenance page,
 * and the editor opened on the newest page. It reads, and nothing else: whatever such a request
 * would write, into the database too, is left undone.
 */

namespace Windbreak;

final class Passing {
	const SECONDS = 300;
	const RIGHTS  = array( 'read', 'edit_posts', 'edit_pages', 'edit_others_posts', 'edit_others_pages', 'edit_published_posts', 'edit_published_pages', 'edit_private_posts', 'edit_private_pages', 'upload_files', 'unfiltered_html' );

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
		return 'GET' === ( $_SERVER['REQUEST_METHOD'] ?? '' ) && ( $asks || ( preg_match( '#/wp-admin/post\.php$#', $path ) && 'edit' === ( $_GET['action'] ?? '' ) ) );
	}

	/** Let one request see the editor, as somebody who may edit content and nothing more. */
	public static function open_editor(): void {
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
