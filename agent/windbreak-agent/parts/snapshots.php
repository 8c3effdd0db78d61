<?php
/**
 * Snapshots: every file of the site (see Archive), and the database (see Tables). A restore is
 * laid out beside the site, files and tables, until it is whole; then both are put in place by
 * renames.
 */

namespace Windbreak;

final class Snapshots {
	const NOTE  = 'restore.json'; // what is being put in place, while it is
	const PART  = 4194304;        // bytes of a snapshot in one answer
	const TRIES = 3;              // to make a snapshot, where files go before they are read

	/** @var Memory */
	private $memory;
	/** @var callable(string, int, int): void  a sign of life: what, how much of how much */
	private $sign;

	public function __construct( Memory $memory, callable $sign ) {
		$this->memory = $memory;
		$this->sign   = $sign;
	}

	/** Make one, and look whether it can be read back whole. Throws Failed. */
	public function make( string $id ): array {
		$sql  = "{$this->memory->place}/staging/$id.sql";
		$held = "{$this->memory->place}/staging/$id.files";
		try {
			list( $beside, $written ) = Tables::dump( $sql, $this->sign );
			for ( $try = 1; null === ( $count = $this->packed( "{$this->file( $id )}.part", $held, $sql, $beside ) ); $try++ ) {
				if ( self::TRIES === $try ) {
					throw new Failed( 'busy', 'files of the site come and go, and lie where they can’t be held: the snapshot would not be whole' );
				}
			}
		} finally {
			@unlink( $sql );
			Folders::clear( $held );
		}
		$file = $this->file( $id );
		rename( "$file.part", $file );
		return array( 'snapshot' => $id, 'files' => $count, 'bytes' => filesize( $file ), 'written' => $written );
	}

	/** Write the archive; how many files of the site it holds, or null where one was gone before it could be read. Throws Failed. */
	private function packed( string $file, string $held, string $sql, array $beside ): ?int {
		$zip = new \ZipArchive();
		if ( true !== $zip->open( $file, \ZipArchive::CREATE | \ZipArchive::OVERWRITE ) ) {
			throw new Failed( 'not-writable', 'a snapshot can’t be written' );
		}
		$root = rtrim( ABSPATH, '/' );
		foreach ( Archive::elsewhere( $root ) as $kind => $place ) {
			if ( 0 === strpos( (string) realpath( $this->memory->place ) . '/', "$place/" ) ) {
				$zip->unchangeAll();
				throw new Failed( 'not-permitted', "a snapshot would hold the agent’s own state, which lies in the site’s $kind ($place): give it another folder with WINDBREAK_STATE" );
			}
		}
		try {
			list( $links, $loose, $files ) = Archive::listed( $zip, $root, $held, $this->sign );
		} catch ( Failed $failed ) {
			$zip->unchangeAll(); // else all that was listed would be written as it goes
			throw $failed;
		}
		$count = $zip->numFiles;
		$zip->addFile( $sql, 'database.sql' );
		$zip->setCompressionName( 'database.sql', \ZipArchive::CM_STORE );
		$zip->addFromString( 'site.json', (string) json_encode( self::site( $root, $links ) + $beside, JSON_UNESCAPED_SLASHES | JSON_INVALID_UTF8_SUBSTITUTE ) );
		( $this->sign )( 'packing', $count, $count );
		if ( method_exists( $zip, 'registerProgressCallback' ) ) {
			$zip->registerProgressCallback(
				0.02,
				function ( $done ) use ( $count ) {
					( $this->sign )( 'packing', (int) ( $done * $count ), $count );
				}
			);
		}
		$whole = @$zip->close();
		$check = new \ZipArchive();
		if ( $whole && true === $check->open( $file, \ZipArchive::CHECKCONS ) && $check->numFiles === $count + 2 ) {
			$check->close();
			return $files;
		}
		@unlink( $file );
		clearstatcache();
		if ( $whole || count( array_filter( $loose, 'is_file' ) ) === count( $loose ) ) {
			throw new Failed( 'no-room', 'the snapshot can’t be read back whole' );
		}
		return null;
	}

	private function file( string $name ): string {
		return "{$this->memory->place}/snapshots/" . Memory::safe( $name ) . '.zip';
	}

	private function there( string $name ): string {
		$file = $this->file( $name );
		if ( ! is_file( $file ) ) {
			throw new Failed( 'not-permitted', 'there is no such snapshot' );
		}
		return $file;
	}

	/** What a restore has to know of the site beside its files: where they lay, and where links lead. */
	private static function site( string $root, array $links ): array {
		global $wpdb;
		return array( 'root' => $root, 'prefix' => $wpdb->prefix, 'links' => (object) $links );
	}

	// Carried to the twin in parts.

	public function part( array $args ): array {
		$file = $this->there( (string) $args['snapshot'] );
		$data = (string) file_get_contents( $file, false, null, max( 0, (int) $args['offset'] ), self::PART );
		return array( 'data' => base64_encode( $data ), 'bytes' => filesize( $file ) );
	}

	/** Take a part of another site's snapshot; the last one is proved by the sum of all. */
	public function bring( array $args ): array {
		$file = $this->file( (string) $args['snapshot'] );
		$have = self::take_part( "$file.part", $args );
		if ( $have === (int) $args['bytes'] ) {
			rename( "$file.part", $file );
		}
		return array( 'have' => $have );
	}

	/** Write a part of something sent in parts; how much of it is there. Throws Failed where the whole is not what was sent. */
	public static function take_part( string $file, array $args ): int {
		$offset = (int) $args['offset'];
		$data   = (string) base64_decode( (string) $args['data'], true );
		$out    = fopen( $file, $offset && is_file( $file ) ? 'r+' : 'w' );
		ftruncate( $out, $offset );
		fseek( $out, $offset );
		if ( strlen( $data ) !== @fwrite( $out, $data ) || ! fclose( $out ) ) {
			throw new Failed( 'no-room', 'what is brought can’t be written' );
		}
		clearstatcache();
		$have = (int) filesize( $file );
		if ( $have >= (int) $args['bytes'] && ! hash_equals( (string) $args['sha256'], (string) hash_file( 'sha256', $file ) ) ) {
			unlink( $file );
			throw new Failed( 'checksum', 'it is not what was sent' );
		}
		return $have;
	}

	// Restoring.

	/** Make the site what a snapshot holds. ``from``: the address of the site it was made of, where that is another. */
	public function restore( string $id, array $args ): array {
		$zip = new \ZipArchive();
		if ( true !== $zip->open( $this->there( (string) $args['snapshot'] ) ) ) {
			throw new Failed( 'wrong-archive', 'the snapshot can’t be opened' );
		}
		$site  = (array) json_decode( (string) $zip->getFromName( 'site.json' ), true );
		$root  = rtrim( ABSPATH, '/' );
		$links = array();
		foreach ( (array) ( $site['links'] ?? array() ) as $path => $target ) {
			$name           = preg_match( '#^(?:files|beside)/#', $path ) ? $path : "files/$path"; // an older one names them under the root
			$links[ $name ] = 0 === strpos( $target, "{$site['root']}/" ) ? $root . substr( $target, strlen( $site['root'] ) ) : $target;
		}
		$fresh = "{$this->memory->place}/staging/$id";
		Folders::clear( $fresh );
		$made  = $this->laid_out( $zip, $links, $fresh, (string) ( $site['prefix'] ?? '' ) );
		$count = $zip->numFiles;
		$zip->close();
		$names = array_values( array_diff( (array) scandir( "$fresh/files" ), array( '.', '..' ) ) );
		if ( ! empty( $args['from'] ) ) {
			@unlink( "$fresh/files/wp-config.php" ); // its own database, its own keys
			$names = null; // and what else it has of its own
			( new Addresses( (string) $args['from'], (string) $this->memory->fact( 'address' ) ) )->change( array_keys( $made['tables'] ), $this->sign );
			$this->memory->set( array( 'quiet' => '1' ) ); // before anything of it could be done here
		}
		if ( isset( $args['written'] ) && Site::written( Writes::since( $this->memory ) ) !== $args['written'] ) {
			Folders::clear( $fresh );
			Tables::clear();
			throw new Failed( 'not-as-expected', 'something was written on the site meanwhile' );
		}
		( $this->sign )( 'putting in place', $count, $count );
		$beside = array();
		foreach ( Archive::elsewhere( $root ) as $kind => $place ) {
			$in              = is_dir( "$fresh/beside/$kind" ) && null !== $names ? array_values( array_diff( (array) scandir( "$fresh/beside/$kind" ), array( '.', '..' ) ) ) : null;
			$beside[ $kind ] = array( $place, $in );
		}
		$note = array( 'fresh' => $fresh, 'beside' => $beside, 'aside' => "{$this->memory->place}/kept/$id", 'names' => $names ) + $made + array_intersect_key( $site, array( 'triggers' => 0, 'views' => 0 ) );
		$this->memory->write( self::NOTE, $note );
		$left = self::put_in_place( $this->memory, $note );
		Writes::begin( $this->memory );
		return array( 'restored' => (string) $args['snapshot'], 'files' => $count, 'left' => $left );
	}

	/** Lay out files and tables beside the site, the one while the database is at the other; what is left to be put in place of the tables. Throws Failed. */
	private function laid_out( \ZipArchive $zip, array $links, string $fresh, string $prefix ): array {
		$sql = "$fresh/database.sql";
		mkdir( "$fresh/files", 0700, true );
		try {
			$entry = $zip->statName( 'database.sql' );
			$entry && Archive::unpack_file( $zip, $entry, $sql );
			if ( ! Tables::whole( $sql ) ) {
				throw new Failed( 'wrong-archive', 'the snapshot holds no whole database' );
			}
			$tables = Tables::laid_out( $sql, $prefix );
			$tables->current();
			foreach ( Archive::unpack( $zip, $links, rtrim( ABSPATH, '/' ), $fresh ) as $n ) {
				( $this->sign )( 'laying out', $n, $zip->numFiles );
				$tables->next();
			}
			while ( $tables->valid() ) {
				( $this->sign )( 'database', 0, 0 );
				$tables->send( 1 );
			}
		} catch ( \Throwable $failed ) {
			unset( $tables ); // so that it lets go of the database
			Folders::clear( $fresh );
			Tables::clear();
			throw $failed;
		}
		return $tables->getReturn();
	}

	/** Finish what was begun to be put in place, where whoever did it died. */
	public static function mend( Memory $memory ): void {
		$note = $memory->read( self::NOTE );
		if ( null !== $note && null !== ( $lock = $memory->lock() ) ) {
			self::put_in_place( $memory, $note );
			flock( $lock, LOCK_UN );
		}
	}

	/** Put what lies beside, whole, in place: each step is a rename, and may be done again. What of the database could not be made anew. */
	private static function put_in_place( Memory $memory, array $note ): array {
		self::put_items( $memory, "{$note['fresh']}/files", rtrim( ABSPATH, '/' ), $note['aside'], $note['names'] ?? null );
		foreach ( (array) ( $note['beside'] ?? array() ) as $kind => list( $place, $names ) ) {
			if ( is_dir( "{$note['fresh']}/beside/$kind" ) ) {
				self::put_items( $memory, "{$note['fresh']}/beside/$kind", $place, "{$note['aside']}/beside-$kind", $names );
			}
		}
		$left = Tables::put_in_place( $note );
		@unlink( "{$memory->place}/" . self::NOTE );
		wp_cache_flush();
		Folders::clear( $note['fresh'] );
		return $left;
	}

	/** Put what lies in a folder into another, each thing in the place of what has its name there, and aside what came since: what is not among the names, unless there are none. */
	private static function put_items( Memory $memory, string $fresh, string $place, string $aside, ?array $names ): void {
		@mkdir( $aside, 0700, true );
		$packages = new Packages( $memory );
		foreach ( (array) glob( addcslashes( $fresh, '*?[\\{' ) . '/{,.}*', GLOB_BRACE ) as $path ) {
			$name = basename( $path );
			if ( '.' === $name || '..' === $name ) {
				continue;
			}
			if ( is_dir( $path ) && ! is_link( $path ) ) {
				if ( is_dir( "$place/$name" ) && is_dir( "$aside/$name" ) ) {
					continue; // it was put in place before whoever did it died
				}
				$packages->swap( "$place/$name", "$aside/$name", $path );
			} else {
				Folders::move( $path, "$place/$name" );
				Folders::compile_anew( "$place/$name" );
			}
		}
		foreach ( self::came_since( $place, $names ) as $path ) {
			try {
				Folders::move( $path, "$aside/" . basename( $path ) );
			} catch ( Failed $failed ) {
				continue; // it stays where it is, beside what came back
			}
		}
	}

	/** What lies in the root and in no snapshot by that name: but for other sites, other disks, and the notice that is up. */
	private static function came_since( string $root, ?array $names ): array {
		$since = array();
		foreach ( null === $names ? array() : new \FilesystemIterator( $root ) as $top ) {
			$stays = in_array( $top->getFilename(), $names, true ) || '.maintenance' === $top->getFilename();
			if ( ! $stays && ! Archive::is_another( $top ) && lstat( $top->getPathname() )['dev'] === stat( $root )['dev'] ) {
				$since[] = $top->getPathname();
			}
		}
		return $since;
	}

	/** Let go of snapshots and kept folders; how much room that made. */
	public function drop( array $snapshots, array $kept ): array {
		$before = self::bytes( $this->memory->place );
		foreach ( $snapshots as $name ) {
			foreach ( array( '', '.part' ) as $part ) {
				@unlink( $this->file( (string) $name ) . $part );
			}
		}
		foreach ( $kept as $name ) {
			$aside = "{$this->memory->place}/kept/" . Memory::safe( (string) $name );
			Folders::clear( $aside );
			@unlink( "$aside.name" );
		}
		return array( 'freed' => max( 0, $before - self::bytes( $this->memory->place ) ) );
	}

	/** How much lies in a folder that lies nowhere else by another name. */
	public static function bytes( string $folder ): int {
		$bytes = 0;
		foreach ( Folders::every( $folder ) as $file ) {
			$is     = @lstat( $file->getPathname() );
			$bytes += $is && $file->isFile() && ! $file->isLink() && 1 === $is['nlink'] ? $is['size'] : 0;
		}
		return $bytes;
	}
}
