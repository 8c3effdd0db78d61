<?php
/**
 * Snapshots: every file under the root, and the database as statements. A restore is laid out
 * beside the site, files and tables, until it is whole; then both are put in place by renames.
 */

namespace Windbreak;

final class Snapshots {
	const NOTE = 'restore.json'; // what is being put in place, while it is
	const ROWS = 500;            // of a table in one statement
	const END  = "-- end\n";     // the last line of a database that is whole
	const PART = 4194304;        // bytes of a snapshot in one answer
	const NEW  = 'windbreak_new_'; // tables of a restore before they are in place
	const OLD  = 'windbreak_old_'; // tables that were there, until they are gone

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
		$file = $this->file( $id );
		$sql  = "{$this->memory->place}/staging/$id.sql";
		$this->dump( $sql );
		$zip = new \ZipArchive();
		if ( true !== $zip->open( "$file.part", \ZipArchive::CREATE | \ZipArchive::OVERWRITE ) ) {
			throw new Failed( 'not-writable', 'a snapshot can’t be written' );
		}
		$root  = rtrim( ABSPATH, '/' );
		$count = 0;
		foreach ( self::walk( $root ) as $path ) {
			$name = 'files/' . substr( $path, strlen( $root ) + 1 );
			if ( is_dir( $path ) ) {
				$zip->addEmptyDir( $name );
			} else {
				$zip->addFile( $path, $name );
				$zip->setCompressionName( $name, \ZipArchive::CM_STORE ); // time counts here more than room
			}
			if ( 0 === ++$count % 500 ) {
				( $this->sign )( 'files', $count, 0 );
			}
		}
		$zip->addFile( $sql, 'database.sql' );
		$zip->setCompressionName( 'database.sql', \ZipArchive::CM_STORE );
		$zip->addFromString( 'site.json', (string) json_encode( self::site( $root ), JSON_UNESCAPED_SLASHES ) );
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
		@unlink( $sql );
		$check = new \ZipArchive();
		if ( ! $whole || true !== $check->open( "$file.part", \ZipArchive::CHECKCONS ) || $check->numFiles !== $count + 2 ) {
			@unlink( "$file.part" );
			throw new Failed( 'no-room', 'the snapshot can’t be read back whole' );
		}
		$check->close();
		rename( "$file.part", $file );
		return array( 'snapshot' => $id, 'files' => $count, 'bytes' => filesize( $file ), 'written' => Site::look()['written'] );
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
	private static function site( string $root ): array {
		global $wpdb;
		$links = array();
		foreach ( self::every( $root ) as $file ) {
			if ( $file->isLink() ) {
				$links[ substr( $file->getPathname(), strlen( $root ) + 1 ) ] = readlink( $file->getPathname() );
			}
		}
		return array( 'root' => $root, 'prefix' => $wpdb->prefix, 'links' => (object) $links );
	}

	private static function every( string $root ): \RecursiveIteratorIterator {
		return new \RecursiveIteratorIterator( new \RecursiveDirectoryIterator( $root, \FilesystemIterator::SKIP_DOTS ), \RecursiveIteratorIterator::SELF_FIRST );
	}

	/** Files, and folders with nothing in them; links are told apart. */
	private static function walk( string $root ): \Generator {
		foreach ( self::every( $root ) as $file ) {
			if ( $file->isLink() ) {
				continue;
			}
			if ( $file->isFile() || ( $file->isDir() && ! ( new \FilesystemIterator( $file->getPathname() ) )->valid() ) ) {
				yield $file->getPathname();
			}
		}
	}

	// The database.

	/** The tables of this site, of one that shares its database none. */
	private static function tables(): array {
		global $wpdb;
		$like   = $wpdb->prepare( 'SHOW FULL TABLES LIKE %s', $wpdb->esc_like( $wpdb->prefix ) . '%' );
		$tables = array();
		foreach ( mysqli_fetch_all( self::asked( $wpdb->remove_placeholder_escape( $like ) ) ) as list( $table, $kind ) ) {
			if ( 'BASE TABLE' === $kind ) { // a view holds nothing of its own, and stays
				$tables[] = $table;
			}
		}
		$others = array();
		foreach ( $tables as $table ) {
			$prefix = substr( $table, 0, -7 );
			if ( 'options' === substr( $table, -7 ) && strlen( $prefix ) > strlen( $wpdb->prefix ) && in_array( "{$prefix}users", $tables, true ) ) {
				$others[] = $prefix; // another site's: members of a network share their users
			}
		}
		return array_values(
			array_filter(
				$tables,
				static function ( $table ) use ( $others ) {
					foreach ( $others as $prefix ) {
						if ( 0 === strpos( $table, $prefix ) ) {
							return false;
						}
					}
					return true;
				}
			)
		);
	}

	/** The tables as statements, a row at a time, so that memory stays small. */
	private function dump( string $file ): void {
		global $wpdb;
		$out = fopen( $file, 'w' );
		self::asked( 'START TRANSACTION WITH CONSISTENT SNAPSHOT' ); // as it was at one instant
		$tables = self::tables();
		foreach ( $tables as $n => $table ) {
			( $this->sign )( 'database', $n, count( $tables ) );
			$made = mysqli_fetch_row( self::asked( "SHOW CREATE TABLE `$table`" ) );
			self::put( $out, "{$made[1]};\n-- next\n" );
			$rows = self::asked( "SELECT * FROM `$table`", MYSQLI_USE_RESULT );
			$some = array();
			while ( is_array( $row = mysqli_fetch_row( $rows ) ) ) {
				$cells = array();
				foreach ( $row as $cell ) {
					$cells[] = null === $cell ? 'NULL' : "'" . mysqli_real_escape_string( $wpdb->dbh, $cell ) . "'";
				}
				$some[] = '(' . implode( ',', $cells ) . ')';
				if ( self::ROWS === count( $some ) ) {
					self::put( $out, self::insert( $table, $some ) );
					$some = array();
				}
			}
			if ( mysqli_errno( $wpdb->dbh ) ) {
				throw new Failed( 'unknown', "the database, in mid-table $table: " . mysqli_error( $wpdb->dbh ) );
			}
			mysqli_free_result( $rows );
			self::put( $out, $some ? self::insert( $table, $some ) : '' );
		}
		self::asked( 'COMMIT' );
		self::put( $out, self::END );
		if ( ! fclose( $out ) ) {
			throw new Failed( 'no-room', 'the database can’t be written into a snapshot' );
		}
	}

	/** What the database answers, by the one connection there is: another would see another instant. */
	public static function asked( string $statement, int $how = MYSQLI_STORE_RESULT ) {
		global $wpdb;
		$answer = mysqli_query( $wpdb->dbh, $statement, $how );
		if ( false === $answer ) {
			throw new Failed( 'unknown', 'the database: ' . mysqli_error( $wpdb->dbh ) );
		}
		return $answer;
	}

	private static function insert( string $table, array $rows ): string {
		return "INSERT INTO `$table` VALUES " . implode( ',', $rows ) . ";\n-- next\n";
	}

	private static function put( $out, string $text ): void {
		if ( strlen( $text ) !== @fwrite( $out, $text ) ) {
			throw new Failed( 'no-room', 'the database can’t be written into a snapshot' );
		}
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
		$root  = rtrim( ABSPATH, '/' );
		$fresh = "{$this->memory->place}/staging/$id";
		Packages::clear( $fresh );
		( $this->sign )( 'laying out', 0, $zip->numFiles );
		if ( ! @$zip->extractTo( $fresh ) ) {
			Packages::clear( $fresh );
			throw new Failed( 'no-room', 'the snapshot can’t be opened beside the site' );
		}
		$count = $zip->numFiles;
		$zip->close();
		if ( stat( $fresh )['dev'] !== stat( $root )['dev'] ) {
			throw new Failed( 'not-writable', "the agent’s state lies on another disk than $root: what is restored can’t be put in place by a rename" );
		}
		if ( self::END !== (string) @file_get_contents( "$fresh/database.sql", false, null, max( 0, (int) @filesize( "$fresh/database.sql" ) - strlen( self::END ) ) ) ) {
			throw new Failed( 'wrong-archive', 'the snapshot holds no whole database' );
		}
		$site = (array) json_decode( (string) @file_get_contents( "$fresh/site.json" ), true );
		foreach ( (array) ( $site['links'] ?? array() ) as $path => $target ) {
			@mkdir( dirname( "$fresh/files/$path" ), 0755, true );
			symlink( 0 === strpos( $target, "{$site['root']}/" ) ? $root . substr( $target, strlen( $site['root'] ) ) : $target, "$fresh/files/$path" );
		}
		if ( ! empty( $args['from'] ) ) {
			@unlink( "$fresh/files/wp-config.php" ); // its own database, its own keys
		}
		$tables = $this->laid_out( "$fresh/database.sql", (string) ( $site['prefix'] ?? '' ) );
		if ( ! empty( $args['from'] ) ) {
			( new Addresses( (string) $args['from'], (string) $this->memory->fact( 'address' ) ) )->change( array_keys( $tables ), $this->sign );
		}
		if ( ! empty( $args['from'] ) ) {
			$this->memory->set( array( 'quiet' => '1' ) ); // before anything of it could be done here
		}
		( $this->sign )( 'putting in place', $count, $count );
		$note = array( 'fresh' => $fresh, 'aside' => "{$this->memory->place}/kept/$id", 'tables' => $tables );
		$this->memory->write( self::NOTE, $note );
		self::put_in_place( $this->memory, $note );
		return array( 'restored' => (string) $args['snapshot'], 'files' => $count );
	}

	/** Make the tables of a snapshot beside those that are there: names there, by the names they have beside. */
	private function laid_out( string $file, string $prefix ): array {
		global $wpdb;
		if ( $prefix !== $wpdb->prefix ) {
			throw new Failed( 'wrong-archive', "the snapshot’s tables begin with “{$prefix}”, and those here with “{$wpdb->prefix}”" );
		}
		foreach ( array( self::NEW, self::OLD ) as $left ) {
			foreach ( mysqli_fetch_all( self::asked( "SHOW TABLES LIKE '" . str_replace( '_', '\\_', $left ) . "%'" ) ) as list( $table ) ) {
				self::asked( "DROP TABLE `$table`" );
			}
		}
		self::asked( 'SET SESSION foreign_key_checks = 0' );
		$tables    = array();
		$statement = '';
		$lines     = fopen( $file, 'r' );
		while ( false !== ( $line = fgets( $lines ) ) ) {
			if ( "-- next\n" !== $line ) {
				$statement .= $line;
				continue;
			}
			if ( preg_match( '/^CREATE TABLE `([^`]+)`/', $statement, $match ) ) {
				$table             = $match[1];
				$beside            = self::NEW . count( $tables );
				$tables[ $beside ] = $table;
				( $this->sign )( 'database', count( $tables ), 0 );
				$statement = preg_replace( '/CONSTRAINT `[^`]+` FOREIGN KEY/', 'FOREIGN KEY', $statement );
				$statement = "CREATE TABLE `$beside`" . substr( $statement, strlen( $match[0] ) );
			} else {
				$statement = "INSERT INTO `$beside`" . substr( $statement, strlen( "INSERT INTO `$table`" ) );
			}
			self::asked( rtrim( $statement, ";\n" ) );
			$statement = '';
		}
		fclose( $lines );
		return $tables;
	}

	/** Finish what was begun to be put in place, where whoever did it died. */
	public static function mend( Memory $memory ): void {
		$note = $memory->read( self::NOTE );
		if ( null !== $note && null !== ( $lock = $memory->lock() ) ) {
			self::put_in_place( $memory, $note );
			flock( $lock, LOCK_UN );
		}
	}

	/** Put what lies beside, whole, in place: each step is a rename, and may be done again. */
	private static function put_in_place( Memory $memory, array $note ): void {
		$root = rtrim( ABSPATH, '/' );
		@mkdir( $note['aside'], 0700, true );
		foreach ( (array) glob( "{$note['fresh']}/files/{,.}*", GLOB_BRACE ) as $path ) {
			$name = basename( $path );
			if ( '.' === $name || '..' === $name ) {
				continue;
			}
			if ( is_dir( $path ) && ! is_link( $path ) ) {
				$packages = $packages ?? new Packages( $memory );
				if ( is_dir( "$root/$name" ) && is_dir( "{$note['aside']}/$name" ) ) {
					continue; // it was put in place before whoever did it died
				}
				$packages->swap( "$root/$name", "{$note['aside']}/$name", $path );
			} elseif ( ! @rename( $path, "$root/$name" ) ) {
				throw new Failed( 'not-writable', "$name can’t be put back" );
			}
		}
		$moves = array();
		foreach ( (array) $note['tables'] as $beside => $table ) {
			if ( self::has( $beside ) ) {
				if ( self::has( $table ) ) {
					$moves[] = "`$table` TO `" . self::OLD . substr( $beside, strlen( self::NEW ) ) . '`';
				}
				$moves[] = "`$beside` TO `$table`";
			}
		}
		if ( $moves ) {
			self::asked( 'RENAME TABLE ' . implode( ', ', $moves ) ); // all of them, or none
		}
		self::asked( 'SET SESSION foreign_key_checks = 0' );
		foreach ( array_keys( (array) $note['tables'] ) as $beside ) {
			self::asked( 'DROP TABLE IF EXISTS `' . self::OLD . substr( $beside, strlen( self::NEW ) ) . '`' );
		}
		foreach ( array_diff( self::tables(), array_values( (array) $note['tables'] ) ) as $newer ) {
			self::asked( "DROP TABLE `$newer`" ); // it came after the snapshot
		}
		@unlink( "{$memory->place}/" . self::NOTE );
		wp_cache_flush();
		Packages::clear( $note['fresh'] );
	}

	private static function has( string $table ): bool {
		return (bool) mysqli_num_rows( self::asked( "SHOW TABLES LIKE '" . str_replace( '_', '\\_', $table ) . "'" ) );
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
			Packages::clear( $aside );
			@unlink( "$aside.name" );
		}
		return array( 'freed' => max( 0, $before - self::bytes( $this->memory->place ) ) );
	}

	/** How much lies in a folder. */
	public static function bytes( string $folder ): int {
		$bytes = 0;
		foreach ( self::every( $folder ) as $file ) {
			$bytes += $file->isFile() && ! $file->isLink() ? $file->getSize() : 0;
		}
		return $bytes;
	}
}
