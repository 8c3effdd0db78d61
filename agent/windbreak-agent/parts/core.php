<?php
/**
 * The system itself, updated through its own upgrader, which copies over what is there: so all
 * that it may touch is copied aside before. Where the upgrader dies half-way, the next request to
 * the site, whoever makes it, brings the old files back: the system asks its maintenance file
 * before it does anything else, and the agent writes that file.
 */

namespace Windbreak;

final class Core {
	const NOTE    = 'core.json'; // what is being updated, while it is
	const FOLDERS = array( 'wp-admin', 'wp-includes' );

	/** @var Memory */
	private $memory;

	public function __construct( Memory $memory ) {
		$this->memory = $memory;
	}

	public function apply( string $id, string $file, string $product, string $version ): array {
		$root = rtrim( ABSPATH, '/' );
		$sums = self::examined( $file, $product, $version );
		if ( disk_free_space( $root ) < Packages::ROOM_FOR * filesize( $file ) ) {
			throw new Failed( 'no-room', 'there is too little room to open it, and to keep the old one' );
		}
		if ( Site::version_in( $product, $root ) === $version ) {
			throw new Failed( 'already-there', "$product $version" );
		}
		$kept = "{$this->memory->place}/kept/$id";
		self::copied( $root, $kept, true );
		file_put_contents( "$kept/.database", (string) get_option( 'db_version' ) );
		$this->memory->write( self::NOTE, array( 'kept' => $kept, 'root' => $root ) );
		delete_option( 'core_updater.lock' ); // of one that died: who is alive holds the agent's lock too (see Guarding)
		try {
			$this->by_its_upgrader( $file, $version );
			$this->held_against( $sums, $root, $version );
			self::compile_anew( $root, $kept );
			self::parted( $kept );
		} catch ( \Throwable $error ) {
			self::bring_back( $kept, $root );
			$this->over();
			throw $error;
		}
		$this->over();
		return array( 'version' => $version, 'kept' => true );
	}

	/** The sums of the system's own files in a package, by their paths, once it was seen to be what it is said to be. Throws Failed. */
	private static function examined( string $file, string $product, string $version ): array {
		$zip  = new \ZipArchive();
		$root = Packages::root_of( $zip, $file, $product );
		$text = (string) $zip->getFromName( "$root/wp-includes/version.php" );
		Packages::is_version( $product, false !== $zip->locateName( "$root/wp-admin/includes/update-core.php" ) ? Site::system_version( $text ) : null, $version );
		$sums = array();
		for ( $n = 0; $n < $zip->numFiles; $n++ ) {
			$entry = (array) $zip->statIndex( $n );
			$path  = substr( $entry['name'], strlen( $root ) + 1 );
			if ( '' !== $path && '/' !== substr( $path, -1 ) && 0 !== strpos( $path, 'wp-content/' ) ) {
				$sums[ $path ] = $entry['crc'] & 0xFFFFFFFF;
			}
		}
		return $sums;
	}

	private function by_its_upgrader( string $file, string $version ): void {
		foreach ( array( 'admin', 'class-wp-upgrader', 'update' ) as $part ) {
			require_once ABSPATH . "wp-admin/includes/$part.php";
		}
		if ( 'direct' !== get_filesystem_method( array(), ABSPATH ) ) {
			throw new Failed( 'not-writable', 'the system can’t write its own files without a person' );
		}
		foreach ( array(
			'filesystem_method'              => 'Windbreak',
			'filesystem_method_file'         => dirname( __DIR__ ) . '/files.php',
			'request_filesystem_credentials' => array(),
		) as $name => $answer ) {
			add_filter(
				$name,
				static function () use ( $answer ) {
					return $answer;
				},
				PHP_INT_MAX
			);
		}
		add_filter( 'update_feedback', array( $this, 'keep_in_view' ) );
		$offer = (object) array(
			'response'        => 'upgrade',
			'download'        => $file,
			'locale'          => get_locale(),
			'packages'        => (object) array( 'full' => $file, 'no_content' => '', 'new_bundled' => '', 'partial' => '', 'rollback' => '' ),
			'current'         => $version,
			'version'         => $version,
			'php_version'     => '5.6',
			'mysql_version'   => '5.0',
			'new_bundled'     => '',
			'partial_version' => '',
			'dismissed'       => false,
		);
		$skin = new \Automatic_Upgrader_Skin();
		$done = ( new \Core_Upgrader( $skin ) )->upgrade( $offer, array( 'pre_check_md5' => false, 'attempt_rollback' => false, 'allow_relaxed_file_ownership' => false ) );
		if ( is_wp_error( $done ) ) {
			$full = preg_match( '/disk_full|copy_failed|mkdir_failed/', (string) $done->get_error_code() );
			throw new Failed( $full ? 'no-room' : 'unknown', 'the system’s own upgrader says: ' . $done->get_error_message() . ' ' . $done->get_error_code() );
		}
		if ( ! $done ) {
			throw new Failed( 'not-writable', 'the system can’t write its own files without a person' );
		}
	}

	/** Let the agent be asked while the system is in its maintenance, and the next request mend it. */
	public function keep_in_view( $told ) {
		$file = ABSPATH . '.maintenance';
		if ( is_file( $file ) && false === strpos( (string) file_get_contents( $file ), __CLASS__ ) ) {
			$parts = var_export( __DIR__, true );
			$state = var_export( $this->memory->place, true );
			file_put_contents(
				$file,
				'<?php $upgrading = ' . time() . ";\nif ( is_file( $parts . '/core.php' ) ) {\n"
				. "\trequire_once $parts . '/memory.php';\n\trequire_once $parts . '/core.php';\n\trequire_once $parts . '/folders.php';\n"
				. "\t\$upgrading = \\" . __CLASS__ . "::asked_meanwhile( $state, \$upgrading );\n}\n"
			);
		}
		return $told;
	}

	/** Since when the system is in its maintenance, for one request: not at all for the agent's calls. Needs nothing of the system. */
	public static function asked_meanwhile( string $state, int $since ): int {
		try {
			$memory = new Memory( $state );
		} catch ( \RuntimeException $error ) {
			return $since;
		}
		if ( null !== ( $lock = $memory->lock() ) ) {
			$note = $memory->read( self::NOTE );
			if ( null !== $note ) { // whoever updated it died
				try {
					self::bring_back( $note['kept'], $note['root'] );
					@unlink( "{$note['root']}/.maintenance" );
				} catch ( Failed $error ) {
					unset( $error ); // the disk is full: the next request tries again
				}
				flock( $lock, LOCK_UN );
				http_response_code( 503 );
				header( 'Retry-After: 1' );
				exit; // what this request has loaded may be of either
			}
			flock( $lock, LOCK_UN );
		}
		return preg_match( '#/_windbreak/[a-z-]+$#', (string) parse_url( (string) ( $_SERVER['REQUEST_URI'] ?? '' ), PHP_URL_PATH ) ) ? 0 : $since;
	}

	/** End an update that died, with the system's own lock: back to the old files, but where the new ones were whole and had moved the database on. */
	public static function mend( Memory $memory ): void {
		$note = $memory->read( self::NOTE );
		if ( null !== $note && null !== ( $lock = $memory->lock() ) ) {
			if ( ! self::database_moved( $note['kept'] ) ) {
				self::bring_back( $note['kept'], $note['root'] );
			}
			( new self( $memory ) )->over();
			flock( $lock, LOCK_UN );
		}
	}

	private function over(): void {
		@unlink( ABSPATH . '.maintenance' );
		delete_option( 'core_updater.lock' );
		@unlink( "{$this->memory->place}/" . self::NOTE );
	}

	/** Hold every file of the system against its package: its upgrader's word alone is not taken. */
	private function held_against( array $sums, string $root, string $version ): void {
		foreach ( $sums as $path => $sum ) {
			if ( hexdec( (string) @hash_file( 'crc32b', "$root/$path" ) ) !== $sum ) {
				throw new Failed( 'unknown', "$path is not that of $version after the update" );
			}
		}
		$wp_db_version = 0;
		preg_match( '/\$wp_db_version\s*=\s*(\d+)/', (string) file_get_contents( "$root/wp-includes/version.php" ), $found );
		wp_cache_delete( 'alloptions', 'options' );
		if ( (int) ( $found[1] ?? 0 ) !== (int) get_option( 'db_version' ) ) {
			throw new Failed( 'breaks-site', 'its database was not moved on to the new version' );
		}
	}

	public function put_back( string $id, string $kept ): array {
		if ( self::database_moved( $kept ) ) {
			throw new Failed( 'not-permitted', 'its database was moved on: only a restore goes back' );
		}
		$root = rtrim( ABSPATH, '/' );
		self::copied( $root, "{$this->memory->place}/kept/$id" );
		self::bring_back( $kept, $root );
		return array();
	}

	private static function database_moved( string $kept ): bool {
		return trim( (string) @file_get_contents( "$kept/.database" ) ) !== (string) get_option( 'db_version' );
	}

	/** Put the kept files of the system in place again; may be done again. Where the disk is full it takes no room. */
	private static function bring_back( string $kept, string $root ): void {
		Folders::clear( ( defined( 'WP_CONTENT_DIR' ) ? WP_CONTENT_DIR : "$root/wp-content" ) . '/upgrade' ); // what its upgrader opened
		foreach ( self::FOLDERS as $folder ) {
			Folders::clear( "$root/$folder.half" ); // of one that died here
			if ( ! self::alike( "$kept/$folder", "$root/$folder" ) ) {
				try {
					self::copied( "$kept/$folder", "$root/$folder.back" );
				} catch ( Failed $full ) {
					self::copied( "$kept/$folder", "$root/$folder.back", true );
				}
				is_dir( "$root/$folder" ) && rename( "$root/$folder", "$root/$folder.half" );
				rename( "$root/$folder.back", "$root/$folder" );
				Folders::clear( "$root/$folder.half" );
			}
			Folders::clear( "$root/$folder.back" );
		}
		foreach ( self::root_files( $kept ) as $file ) {
			$target = "$root/" . basename( $file );
			if ( ! self::same( $file, $target ) && ! ( Folders::copied( $file, "$target.back" ) && @rename( "$target.back", $target ) ) ) {
				@unlink( "$target.back" );
				throw new Failed( 'no-room', "$target can’t be brought back" );
			}
		}
		self::compile_anew( $root );
	}

	/** Have PHP compile the system's own files anew, but for those that are still what is kept. */
	private static function compile_anew( string $root, string $kept = '' ): void {
		foreach ( array_merge( self::FOLDERS, array_map( 'basename', self::root_files( $root ) ) ) as $name ) {
			Folders::compile_anew( "$root/$name", '' === $kept ? '' : "$kept/$name" );
		}
	}

	/**
	 * Copy the system's own files, or one folder of them, elsewhere; nothing is left of a copy that is not whole.
	 * ``linked``: as second names of the same files where that can be, since whoever writes them next writes them anew.
	 */
	private static function copied( string $from, string $to, bool $linked = false ): void {
		Folders::clear( $to );
		@mkdir( $to, 0755, true );
		$whole = true;
		if ( in_array( basename( $from ), self::FOLDERS, true ) ) {
			$paths = iterator_to_array( self::files( $from ), false );
		} else {
			$paths = array_map( 'basename', self::root_files( $from ) );
			foreach ( self::FOLDERS as $folder ) {
				foreach ( self::files( "$from/$folder" ) as $path ) {
					$paths[] = "$folder/$path";
				}
			}
		}
		foreach ( $paths as $path ) {
			is_dir( dirname( "$to/$path" ) ) || mkdir( dirname( "$to/$path" ), 0755, true );
			$linked = $linked && @link( "$from/$path", "$to/$path" );
			$whole  = $whole && ( $linked || Folders::copied( "$from/$path", "$to/$path" ) );
		}
		if ( ! $whole ) {
			Folders::clear( $to );
			throw new Failed( 'no-room', 'the system’s files can’t be copied aside' );
		}
	}

	/** Let what is kept share no file with what lies in place: its upgrader leaves what is the same, and whoever writes that next may write it where it is. */
	private static function parted( string $kept ): void {
		foreach ( self::files( $kept ) as $path ) {
			if ( stat( "$kept/$path" )['nlink'] > 1 && ! ( Folders::copied( "$kept/$path", "$kept/$path.part" ) && @rename( "$kept/$path.part", "$kept/$path" ) ) ) {
				@unlink( "$kept/$path.part" ); // no room: it stays shared
			}
		}
	}

	/** Whether two folders hold the same files. */
	private static function alike( string $one, string $other ): bool {
		foreach ( array( array( $one, $other ), array( $other, $one ) ) as list( $from, $to ) ) {
			foreach ( is_dir( $from ) ? self::files( $from ) : array() as $path ) {
				if ( ! self::same( "$from/$path", "$to/$path" ) ) {
					return false;
				}
			}
		}
		return is_dir( $one ) && is_dir( $other );
	}

	private static function same( string $one, string $other ): bool {
		$stats = array( @stat( $one ), @stat( $other ) );
		if ( ! $stats[0] || ! $stats[1] || $stats[0]['size'] !== $stats[1]['size'] ) {
			return false;
		}
		$linked = $stats[0]['ino'] === $stats[1]['ino'] && $stats[0]['dev'] === $stats[1]['dev'];
		return $linked || hash_file( 'md5', $one ) === hash_file( 'md5', $other );
	}

	/** The system's own files in its root: never the settings of the site. */
	private static function root_files( string $root ): array {
		return array_filter(
			array_merge( (array) glob( "$root/*.php" ), (array) glob( "$root/*.txt" ), (array) glob( "$root/*.html" ) ),
			static function ( $file ) {
				return 'wp-config.php' !== basename( $file );
			}
		);
	}

	/** The paths of a folder's files, in it. */
	private static function files( string $folder ): \Generator {
		$walk = new \RecursiveIteratorIterator( new \RecursiveDirectoryIterator( $folder, \FilesystemIterator::SKIP_DOTS ) );
		foreach ( $walk as $file ) {
			if ( $file->isFile() ) {
				yield str_replace( '\\', '/', substr( $file->getPathname(), strlen( $folder ) + 1 ) );
			}
		}
	}
}
