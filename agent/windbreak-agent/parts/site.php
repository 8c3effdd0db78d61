<?php
/**
 * What is on the site, read from its files and its database: it needs no plugin and no theme to
 * work, so that it answers when one of them is broken.
 */

namespace Windbreak;

final class Site {
	const LOOKED_AT = 6; // newest pages and posts that are named for looking

	/** Everything that is installed, and what the site may use. */
	public static function inventory( Memory $memory, string $version, int $kept_mb ): array {
		require_once ABSPATH . 'wp-admin/includes/plugin.php';
		$caches  = ( new Caches( $memory ) )->there();
		$members = self::members();
		return array(
			'components'        => array_merge( array( self::core() ), self::themes(), self::plugins(), array( self::runtime() ) ),
			'automatic_updates' => self::updates_itself( $memory ),
			'caches'            => array_keys( $caches, true, true ),
			'caches_off'        => array_keys( $caches, false, true ),
			'maintenance'       => file_exists( ABSPATH . '.maintenance' ) || Page::is_up( $memory ),
			'registrations'     => Offers::remembered( $memory ),
			'network'           => count( $members ),
			'members'           => $members,
			'checks'            => array_merge( self::checks( $memory ), Health::remembered( $memory ) ),
			'limits'            => array(
				'memory_mb' => self::megabytes( ini_get( 'memory_limit' ) ),
				'time_s'    => (int) ini_get( 'max_execution_time' ) ?: null,
				'upload_mb' => self::megabytes( ini_get( 'upload_max_filesize' ) ),
			),
			'agent_version'     => $version,
			'held'              => Held::still( $memory ),
			'free_mb'           => (int) ( disk_free_space( ABSPATH ) / 1048576 ),
			'kept_mb'           => $kept_mb,
		);
	}

	private static function core(): array {
		return self::component( 'core/wordpress', self::version_in( 'core/wordpress', rtrim( ABSPATH, '/' ) ) ?? '0', 'WordPress', 'wordpress' );
	}

	private static function runtime(): array {
		return self::component( 'runtime/php', PHP_MAJOR_VERSION . '.' . PHP_MINOR_VERSION . '.' . PHP_RELEASE_VERSION, 'PHP', 'php' );
	}

	private static function themes(): array {
		$chosen = (string) get_option( 'stylesheet' );
		$parent = (string) get_option( 'template' );
		$found  = array();
		foreach ( (array) glob( WP_CONTENT_DIR . '/themes/*', GLOB_ONLYDIR ) as $folder ) {
			$name = basename( $folder );
			$head = self::header( "$folder/style.css", array( 'name' => 'Theme Name', 'version' => 'Version', 'parent' => 'Template', 'maker' => 'Author' ) );
			if ( null === $head || '' === $head['name'] ) {
				continue;
			}
			$one = self::component( 'theme/' . self::slug( $name ), $head['version'], $head['name'], $name );
			$one['active'] = in_array( $name, array( $chosen, $parent ), true );
			$one['parent'] = '' !== $head['parent'] ? $head['parent'] : null;
			$found[]       = $one;
		}
		return $found;
	}

	private static function plugins(): array {
		$active = array_merge( (array) get_option( 'active_plugins', array() ), self::on_everywhere() );
		$found  = array();
		foreach ( get_plugins() as $file => $head ) {
			$folder = false === strpos( $file, '/' ) ? basename( $file, '.php' ) : dirname( $file );
			if ( 'windbreak-agent' === $folder ) {
				continue; // it is told by its version
			}
			$one           = self::component( 'plugin/' . self::slug( $folder ), (string) $head['Version'], (string) $head['Name'], $folder );
			$one['active'] = in_array( $file, $active, true );
			$found[]       = $one;
		}
		return $found;
	}

	/** The plugins that are on for every member of a network. */
	public static function on_everywhere(): array {
		return is_multisite() ? array_keys( (array) get_site_option( 'active_sitewide_plugins', array() ) ) : array();
	}

	/** The members of a network of sites, with what is on there beside what is on for all; none where this is one site. */
	private static function members(): array {
		global $wpdb;
		$members = array();
		if ( is_multisite() ) {
			foreach ( $wpdb->get_results( "SELECT blog_id, domain, path FROM $wpdb->blogs WHERE archived = 0 AND deleted = 0 AND spam = 0 ORDER BY blog_id LIMIT 1000" ) as $row ) {
				$on = array();
				foreach ( (array) get_blog_option( $row->blog_id, 'active_plugins', array() ) as $file ) {
					$folder = false === strpos( $file, '/' ) ? basename( $file, '.php' ) : dirname( $file );
					if ( 'windbreak-agent' !== $folder ) {
						$on[] = 'plugin/' . self::slug( $folder );
					}
				}
				foreach ( array_unique( array( get_blog_option( $row->blog_id, 'template' ), get_blog_option( $row->blog_id, 'stylesheet' ) ) ) as $theme ) {
					$on[] = 'theme/' . self::slug( (string) $theme );
				}
				$members[] = array(
					'name'    => (string) get_blog_option( $row->blog_id, 'blogname' ),
					'address' => ( is_ssl() ? 'https' : 'http' ) . "://$row->domain$row->path",
					'on'      => array_values( array_unique( $on ) ),
				);
			}
		}
		return $members;
	}

	private static function component( string $product, string $version, string $name, string $folder ): array {
		$version = '' !== $version ? $version : '0';
		return compact( 'product', 'version', 'name', 'folder' ) + array( 'active' => true, 'parent' => null, 'maker' => null );
	}

	/** A folder's name as a product's: small letters, digits and hyphens. */
	public static function slug( string $folder ): string {
		return trim( preg_replace( '/[^a-z0-9]+/', '-', strtolower( $folder ) ), '-' );
	}

	/** Some fields of a file's header; null where there is no such file. */
	private static function header( string $file, array $fields ): ?array {
		$text = @file_get_contents( $file, false, null, 0, 8192 );
		if ( false === $text ) {
			return null;
		}
		foreach ( $fields as $key => $field ) {
			$found         = preg_match( '/^[ \t\/*#@]*' . preg_quote( $field, '/' ) . ':(.*)$/mi', str_replace( "\r", "\n", $text ), $match );
			$fields[ $key ] = $found ? trim( preg_replace( '/\s*(?:\*\/|\?>).*/', '', $match[1] ) ) : '';
		}
		return $fields;
	}

	/** Whether the system may update something without us. */
	public static function updates_itself( Memory $memory ): bool {
		if ( null !== $memory->fact( 'updates-paused' ) ) {
			return false;
		}
		$off = defined( 'AUTOMATIC_UPDATER_DISABLED' ) && AUTOMATIC_UPDATER_DISABLED;
		return ! $off && ! ( defined( 'DISALLOW_FILE_MODS' ) && DISALLOW_FILE_MODS );
	}

	/** The site's own checks that cost nothing: what its tables and folders say. */
	private static function checks( Memory $memory ): array {
		global $wpdb;
		$writes = is_writable( WP_CONTENT_DIR . '/plugins' ) && is_writable( WP_CONTENT_DIR . '/themes' );
		$late   = 0;
		$quiet  = null !== $memory->fact( 'quiet' ); // nothing of it is to be done
		foreach ( $quiet ? array() : (array) get_option( 'cron', array() ) as $at => $work ) {
			$late += is_array( $work ) && is_numeric( $at ) && $at < time() - 3600 ? 1 : 0;
		}
		return array(
			self::check( 'database', 'The database answers', '1' === (string) $wpdb->get_var( 'SELECT 1' ), 'critical', 'A question to the database gives no answer.' ),
			self::check( 'folders', 'Plugins and themes can be written', $writes, 'critical', 'The folder of plugins or of themes can’t be written.' ),
			self::check( 'scheduled', 'Scheduled work is done', 0 === $late, 'minor', "$late times of scheduled work passed an hour ago or more, and it was not done." ),
		);
	}

	private static function check( string $id, string $name, bool $good, string $else, string $text ): array {
		return array( 'id' => $id, 'name' => $name, 'state' => $good ? 'good' : $else, 'text' => $good ? '' : $text );
	}

	private static function megabytes( $text ): ?int {
		$bytes = wp_convert_hr_to_bytes( (string) $text );
		return $bytes > 0 ? (int) ( $bytes / 1048576 ) : null;
	}

	/** A mark that changes when somebody writes something: posts, comments, users, and what was noted while a run is at work. */
	public static function written( array $wrote ): string {
		global $wpdb;
		$posts = $wpdb->get_var( "SELECT concat(max(ID), ' ', max(post_modified_gmt)) FROM $wpdb->posts WHERE post_status NOT IN ('auto-draft')" );
		$said  = $wpdb->get_var( "SELECT concat(coalesce(max(comment_ID), 0)) FROM $wpdb->comments" );
		$users = $wpdb->get_var( "SELECT concat(count(*), ' ', max(ID)) FROM $wpdb->users" );
		return substr( hash( 'sha256', "$posts $said $users" . ( $wrote ? json_encode( $wrote ) : '' ) ), 0, 16 );
	}

	/** Counts by type, a digest of settings, the error log, and pages worth looking at; ``wrote``: what was noted of writes. */
	public static function look( array $wrote ): array {
		global $wpdb;
		$counts = array();
		foreach ( $wpdb->get_results( "SELECT post_type t, count(*) n FROM $wpdb->posts WHERE post_status = 'publish' GROUP BY post_type" ) as $row ) {
			$counts[ $row->t ] = (int) $row->n;
		}
		$counts['comment'] = (int) $wpdb->get_var( "SELECT count(*) FROM $wpdb->comments WHERE comment_approved = '1'" );
		$settings          = array();
		foreach ( array( 'siteurl', 'home', 'blogname', 'template', 'stylesheet', 'permalink_structure', 'show_on_front' ) as $name ) {
			$settings[ $name ] = get_option( $name );
		}
		return array(
			'counts'   => $counts,
			'settings' => substr( hash( 'sha256', json_encode( $settings ) ), 0, 16 ),
			'errors'   => self::errors(),
			'written'  => self::written( $wrote ),
			'wrote'    => (object) $wrote,
			'pages'    => self::pages(),
		);
	}

	/** What visitors and editors wrote since an instant, oldest first. */
	public static function came( string $since ): array {
		global $wpdb;
		$from  = gmdate( 'Y-m-d H:i:s', (int) strtotime( $since ) );
		$found = array();
		$rows  = $wpdb->get_results( $wpdb->prepare( "SELECT post_type, post_title, post_date_gmt FROM $wpdb->posts WHERE post_date_gmt > %s AND post_status NOT IN ('auto-draft', 'inherit') ORDER BY post_date_gmt LIMIT 500", $from ) );
		foreach ( $rows as $row ) {
			$found[] = array( 'kind' => $row->post_type, 'name' => $row->post_title, 'at' => str_replace( ' ', 'T', $row->post_date_gmt ) . 'Z' );
		}
		$rows = $wpdb->get_results( $wpdb->prepare( "SELECT comment_author, comment_content, comment_date_gmt FROM $wpdb->comments WHERE comment_date_gmt > %s ORDER BY comment_date_gmt LIMIT 500", $from ) );
		foreach ( $rows as $row ) {
			$found[] = array( 'kind' => 'comment', 'name' => $row->comment_author, 'at' => str_replace( ' ', 'T', $row->comment_date_gmt ) . 'Z', 'text' => substr( $row->comment_content, 0, 400 ) );
		}
		return $found;
	}

	/** The front page, and the newest of what is published, by their plain addresses. */
	private static function pages(): array {
		global $wpdb;
		$pages = array( array( 'Front page', '/' ) );
		$rows  = $wpdb->get_results( $wpdb->prepare( "SELECT ID, post_title, post_type FROM $wpdb->posts WHERE post_status = 'publish' AND post_type IN ('page', 'post') ORDER BY post_date DESC LIMIT %d", self::LOOKED_AT ) );
		foreach ( $rows as $row ) {
			$pages[] = array( "$row->post_title (" . $row->ID . ')', 'page' === $row->post_type ? "/?page_id=$row->ID" : "/?p=$row->ID" );
		}
		return $pages;
	}

	/** The newest faults of the error log, each once. */
	private static function errors(): array {
		$file = defined( 'WP_DEBUG_LOG' ) && is_string( WP_DEBUG_LOG ) ? WP_DEBUG_LOG : WP_CONTENT_DIR . '/debug.log';
		$size = @filesize( $file );
		if ( ! $size ) {
			return array();
		}
		$tail  = (string) file_get_contents( $file, false, null, max( 0, $size - 65536 ) );
		$found = array();
		foreach ( explode( "\n", $tail ) as $line ) {
			if ( preg_match( '/^\[[^\]]+\] (PHP (?:Fatal|Parse|Recoverable).*)$/', $line, $match ) ) {
				$found[ substr( $match[1], 0, 400 ) ] = true;
			}
		}
		return array_slice( array_keys( $found ), -50 );
	}

	/** The files of a component that its package does not hold, or that differ from it. */
	public static function own_files( string $product, array $pristine ): array {
		$core   = 'core/wordpress' === $product;
		$folder = $core ? rtrim( ABSPATH, '/' ) : self::folder( $product );
		$files  = array();
		foreach ( $core ? array( 'wp-admin', 'wp-includes' ) : array( '' ) as $part ) {
			$walk = is_dir( "$folder/$part" ) ? new \RecursiveIteratorIterator( new \RecursiveDirectoryIterator( rtrim( "$folder/$part", '/' ), \FilesystemIterator::SKIP_DOTS ) ) : array();
			foreach ( null === $folder ? array() : $walk as $file ) {
				if ( ! $file->isFile() || $file->isLink() ) {
					continue;
				}
				$path = str_replace( '\\', '/', substr( $file->getPathname(), strlen( $folder ) + 1 ) );
				$sum  = $pristine[ $path ] ?? null;
				$own  = (string) hash_file( 'sha256', $file->getPathname() );
				if ( $own !== $sum ) {
					$files[] = array( 'path' => $path, 'bytes' => $file->getSize(), 'state' => null === $sum ? 'added' : 'changed', 'sha256' => $own );
				}
			}
		}
		foreach ( array_keys( $pristine ) as $path ) {
			if ( $core && 0 === strpos( $path, 'wp-content/' ) ) {
				continue; // what came with it there may have left since
			}
			if ( null === $folder || ! file_exists( "$folder/$path" ) ) {
				$files[] = array( 'path' => $path, 'bytes' => 0, 'state' => 'missing' );
			}
		}
		usort(
			$files,
			static function ( $a, $b ) {
				return strcmp( $a['path'], $b['path'] );
			}
		);
		return $files;
	}

	/** Let the system forget what it was offered: what it had read of that is of before a change. */
	public static function forget_offers(): void {
		foreach ( array( 'update_plugins', 'update_themes', 'update_core' ) as $record ) {
			delete_site_transient( $record );
		}
	}

	/** The folder in which components of a kind lie. Throws Failed where it has none of its own. */
	public static function place( string $product ): string {
		$places = array( 'theme' => WP_CONTENT_DIR . '/themes', 'plugin' => WP_CONTENT_DIR . '/plugins' );
		list( $kind, $slug ) = array_pad( explode( '/', $product, 2 ), 2, '' );
		if ( ! isset( $places[ $kind ] ) || 'windbreak-agent' === $slug ) {
			throw new Failed( 'not-permitted', "$product is nothing whose folder this agent may touch" );
		}
		return $places[ $kind ];
	}

	/** The system's own version, by the text of its file. */
	public static function system_version( string $text ): ?string {
		return preg_match( '/\$wp_version\s*=\s*\'([^\']+)\'/', $text, $match ) ? $match[1] : null;
	}

	/** The version that a folder holds of a component, by its header; null where it holds none. */
	public static function version_in( string $product, string $folder ): ?string {
		if ( 'core/wordpress' === $product ) {
			// Read from its file: what is loaded may be older than what lies there.
			return self::system_version( (string) @file_get_contents( "$folder/wp-includes/version.php" ) );
		}
		if ( 0 === strpos( $product, 'theme/' ) ) {
			$head = self::header( "$folder/style.css", array( 'name' => 'Theme Name', 'version' => 'Version', 'parent' => 'Template' ) );
			$full = is_file( "$folder/index.php" ) || is_file( "$folder/templates/index.html" ) || '' !== ( $head['parent'] ?? '' );
			return null !== $head && '' !== $head['name'] && $full ? $head['version'] : null;
		}
		foreach ( (array) glob( "$folder/*.php" ) as $file ) {
			$head = self::header( $file, array( 'name' => 'Plugin Name', 'version' => 'Version' ) );
			if ( null !== $head && '' !== $head['name'] ) {
				return $head['version'];
			}
		}
		return null;
	}

	/** A plugin's main file, as the system names it: "forms/forms.php"; null where it is not there. */
	public static function main_file( string $product ): ?string {
		require_once ABSPATH . 'wp-admin/includes/plugin.php';
		wp_cache_delete( 'plugins', 'plugins' );
		foreach ( array_keys( get_plugins() ) as $file ) {
			$folder = false === strpos( $file, '/' ) ? basename( $file, '.php' ) : dirname( $file );
			if ( 'plugin/' . self::slug( $folder ) === $product ) {
				return $file;
			}
		}
		return null;
	}

	/** Where a component lies; null where it is not there. */
	public static function folder( string $product ): ?string {
		$slug = explode( '/', $product )[1] ?? '';
		foreach ( (array) glob( self::place( $product ) . '/*', GLOB_ONLYDIR ) as $folder ) {
			if ( self::slug( basename( $folder ) ) === $slug ) {
				return $folder;
			}
		}
		return null;
	}
}
