<?php
/**
 * What the agent does to the site: each change once, by the id that the service made; under a lock
 * of its own; what is replaced is kept aside, so that it can be put back.
 */

namespace Windbreak;

final class Acts {
	const CAN  = array( 'snapshot', 'restore', 'drop', 'apply', 'put-back', 'switch', 'remove', 'maintenance', 'updates', 'caches', 'purge', 'pass' );
	const SWAP = 'swap.json'; // what is being swapped, while it is
	const ROWS = 500;         // of a table in one statement of a snapshot
	const END  = "-- end\n";  // the last line of a database in a snapshot that is whole
	const ROOM_FOR = 6;       // times its size that a package takes while it is opened

	/** @var Memory */
	private $memory;

	public function __construct( Memory $memory ) {
		$this->memory = $memory;
	}

	/** Carry out a change, or give again what came of it. Throws Failed. */
	public function once( string $call, array $args ): array {
		$id     = Memory::safe( (string) ( $args['change'] ?? '' ) );
		$became = $this->memory->change( $id );
		if ( 'done' === $became['state'] ) {
			return (array) $became['result'];
		}
		if ( 'failed' === $became['state'] ) {
			throw new Failed( (string) $became['code'], (string) $became['detail'] );
		}
		$lock = $this->memory->lock();
		if ( null === $lock ) {
			throw new Failed( 'busy', 'another change is under way' );
		}
		set_time_limit( 0 );
		$this->memory->begin( $id, $call );
		try {
			$result = $this->act( $call, $id, $args );
			$this->memory->end( $id, array( 'state' => 'done', 'result' => $result ) );
			return $result;
		} catch ( Failed $error ) {
			$this->memory->end( $id, array( 'state' => 'failed', 'code' => $error->failure, 'detail' => $error->getMessage() ) );
			throw $error;
		} catch ( \Throwable $error ) {
			$this->memory->end( $id, array( 'state' => 'failed', 'code' => 'unknown', 'detail' => $error->getMessage() ) );
			throw new Failed( 'unknown', $error->getMessage() );
		} finally {
			flock( $lock, LOCK_UN );
			if ( function_exists( 'opcache_reset' ) ) {
				opcache_reset(); // files were swapped under what was compiled
			}
		}
	}

	private function act( string $call, string $id, array $args ): array {
		switch ( $call ) {
			case 'snapshot':
				return $this->snapshot( $id );
			case 'restore':
				return $this->restore( $id, (string) $args['snapshot'] );
			case 'drop':
				return $this->drop( (array) ( $args['snapshots'] ?? array() ), (array) ( $args['kept'] ?? array() ) );
			case 'apply':
				return $this->apply( $id, $args );
			case 'put-back':
				return $this->put_back( $id, (string) $args['product'], (string) $args['of'], ! empty( $args['added'] ) );
			case 'remove':
				return $this->remove( $id, (string) $args['product'] );
			case 'switch':
				return $this->switched( (string) $args['product'], (bool) $args['on'] );
			case 'maintenance':
				return $this->flag( 'page', (bool) $args['on'] );
			case 'updates':
				$was = Site::updates_itself( $this->memory );
				$this->memory->set( array( 'updates-paused' => $args['on'] ? null : '1' ) );
				return array( 'was' => $was );
			case 'caches':
				return array( 'was' => (object) array() );
			case 'purge':
				wp_cache_flush();
				return array();
		}
		throw new Failed( 'not-permitted', "this agent has no call '$call'" );
	}

	private function flag( string $name, bool $on ): array {
		$was = null !== $this->memory->fact( $name );
		$this->memory->set( array( $name => $on ? '1' : null ) );
		return array( 'was' => $was );
	}

	// Components.

	private function apply( string $id, array $args ): array {
		if ( $args['site'] !== $this->memory->fact( 'site' ) ) {
			throw new Failed( 'not-permitted', "this package is for {$args['site']}" );
		}
		$archive = (string) base64_decode( (string) $args['archive'], true );
		if ( strlen( $archive ) !== (int) $args['size'] || ! hash_equals( (string) $args['sha256'], hash( 'sha256', $archive ) ) ) {
			throw new Failed( 'checksum', 'the package is not the one that was signed for' );
		}
		$product = (string) $args['product'];
		$version = (string) $args['version'];
		$fresh   = $this->unpacked( $id, $archive, $product, $version );
		$target  = Site::folder( $product ) ?? Site::place( $product ) . '/' . basename( $fresh );
		$had     = is_dir( $target );
		if ( $had && Site::version_in( $product, $target ) === $version ) {
			throw new Failed( 'already-there', "$product $version" );
		}
		if ( ! is_writable( dirname( $target ) ) ) {
			throw new Failed( 'not-writable', dirname( $target ) . ' can’t be written' );
		}
		foreach ( $had ? (array) ( $args['carry'] ?? array() ) : array() as $path ) {
			$this->carry( $target, $fresh, (string) $path );
		}
		$this->swap( $target, "{$this->memory->place}/kept/$id", $fresh );
		self::clear( "{$this->memory->place}/staging/$id" );
		return array( 'version' => $version, 'kept' => $had );
	}

	/** A package opened beside, once it was seen to be what it is said to be: before anything is touched. */
	private function unpacked( string $id, string $archive, string $product, string $version ): string {
		$folder = "{$this->memory->place}/staging/$id";
		self::clear( $folder );
		if ( disk_free_space( $this->memory->place ) < self::ROOM_FOR * strlen( $archive ) ) {
			throw new Failed( 'no-room', 'there is too little room to open it beside the site' );
		}
		mkdir( $folder, 0700, true );
		if ( strlen( $archive ) !== file_put_contents( "$folder/package.zip", $archive ) ) {
			throw new Failed( 'no-room', 'the package can’t be written' );
		}
		$zip = new \ZipArchive();
		if ( true !== $zip->open( "$folder/package.zip" ) ) {
			throw new Failed( 'wrong-archive', 'it is no archive that can be opened' );
		}
		$roots = array();
		for ( $n = 0; $n < $zip->numFiles; $n++ ) {
			$name = (string) $zip->getNameIndex( $n );
			if ( '' === $name || '/' === $name[0] || preg_match( '#(^|/)\.\.(/|$)|\\\\#', $name ) ) {
				throw new Failed( 'wrong-archive', "it holds a path that leads out: $name" );
			}
			$roots[ explode( '/', $name )[0] ] = true;
		}
		if ( 1 !== count( $roots ) || ! $zip->extractTo( "$folder/open" ) ) {
			throw new Failed( 'wrong-archive', 'it does not hold one folder, and that alone' );
		}
		$zip->close();
		$root = "$folder/open/" . array_keys( $roots )[0];
		if ( Site::slug( basename( $root ) ) !== explode( '/', $product )[1] ) {
			throw new Failed( 'wrong-archive', 'its folder is ' . basename( $root ) . ", and not that of $product" );
		}
		$found = Site::version_in( $product, $root );
		if ( $found !== $version ) {
			throw new Failed( 'wrong-archive', null === $found ? "it holds no $product" : "it holds version $found, and not $version" );
		}
		return $root;
	}

	/** Take a file of the site's own into the folder that takes its place. */
	private function carry( string $old, string $new, string $path ): void {
		if ( '' === $path || '/' === $path[0] || preg_match( '#(^|/)\.\.(/|$)#', $path ) || is_link( "$old/$path" ) ) {
			throw new Failed( 'not-permitted', "$path can't be carried over" );
		}
		if ( is_file( "$old/$path" ) ) {
			@mkdir( dirname( "$new/$path" ), 0755, true );
			if ( ! @copy( "$old/$path", "$new/$path" ) ) {
				throw new Failed( 'no-room', "$path can’t be carried over" );
			}
		}
	}

	private function put_back( string $id, string $product, string $of, bool $added ): array {
		$kept = "{$this->memory->place}/kept/" . Memory::safe( $of );
		if ( ! is_dir( $kept ) && ! $added ) {
			throw new Failed( 'not-permitted', 'nothing was kept of that change' );
		}
		$target = Site::folder( $product ) ?? ( is_file( "$kept.name" ) ? Site::place( $product ) . '/' . trim( (string) file_get_contents( "$kept.name" ) ) : null );
		if ( null !== $target ) {
			$this->swap( $target, "{$this->memory->place}/kept/$id", $kept );
		}
		return array();
	}

	private function remove( string $id, string $product ): array {
		$target = Site::folder( $product );
		if ( null === $target ) {
			throw new Failed( 'already-there', "$product is gone already" );
		}
		$this->swap( $target, "{$this->memory->place}/kept/$id", '' );
		return array();
	}

	/** Put a folder in the place of another, which is kept aside with its name. */
	private function swap( string $target, string $aside, string $fresh ): void {
		$this->memory->write( self::SWAP, compact( 'target', 'aside' ) );
		if ( is_dir( $target ) ) {
			file_put_contents( "$aside.name", basename( $target ) );
			if ( ! @rename( $target, $aside ) ) {
				@unlink( "{$this->memory->place}/" . self::SWAP );
				throw new Failed( 'not-writable', "$target can’t be moved" );
			}
		}
		if ( '' !== $fresh && is_dir( $fresh ) && ! @rename( $fresh, $target ) ) {
			if ( is_dir( $aside ) ) {
				rename( $aside, $target );
			}
			@unlink( "{$this->memory->place}/" . self::SWAP );
			throw new Failed( 'not-writable', "$target can’t be put in its place" );
		}
		@unlink( "{$this->memory->place}/" . self::SWAP );
	}

	/** Bring a folder back where whoever swapped it died in between. */
	public static function mend( Memory $memory ): void {
		$note = $memory->read( self::SWAP );
		if ( null === $note ) {
			return;
		}
		$lock = $memory->lock();
		if ( null === $lock ) {
			return; // it is being swapped right now
		}
		if ( ! is_dir( $note['target'] ) && is_dir( $note['aside'] ) ) {
			rename( $note['aside'], $note['target'] );
		}
		@unlink( "{$memory->place}/" . self::SWAP );
		flock( $lock, LOCK_UN );
	}

	private function switched( string $product, bool $on ): array {
		$file = Site::main_file( $product );
		if ( null === $file ) {
			throw new Failed( 'not-permitted', "$product is no plugin that is there" );
		}
		$active = array_values( (array) get_option( 'active_plugins', array() ) );
		$was    = in_array( $file, $active, true );
		if ( $was !== $on ) {
			$active = $on ? array_merge( $active, array( $file ) ) : array_values( array_diff( $active, array( $file ) ) );
			sort( $active );
			update_option( 'active_plugins', $active );
		}
		return array( 'was' => $was );
	}

	// Snapshots: every file under the root, and the database as statements.

	private function snapshot( string $id ): array {
		$file = "{$this->memory->place}/snapshots/$id.zip";
		$sql  = "{$this->memory->place}/staging/$id.sql";
		$this->dump( $sql );
		$zip = new \ZipArchive();
		if ( true !== $zip->open( "$file.part", \ZipArchive::CREATE | \ZipArchive::OVERWRITE ) ) {
			throw new Failed( 'not-writable', 'a snapshot can’t be written' );
		}
		$root  = rtrim( ABSPATH, '/' );
		$count = 2; // the database and the links
		foreach ( self::files( $root ) as $path ) {
			$zip->addFile( $path, 'files/' . substr( $path, strlen( $root ) + 1 ) );
			++$count;
		}
		$zip->addFile( $sql, 'database.sql' );
		$zip->addFromString( 'links.json', (string) json_encode( (object) self::links( $root ), JSON_UNESCAPED_SLASHES ) );
		$whole = $zip->close();
		@unlink( $sql );
		$check = new \ZipArchive();
		if ( ! $whole || true !== $check->open( "$file.part", \ZipArchive::CHECKCONS ) || $check->numFiles !== $count ) {
			@unlink( "$file.part" );
			throw new Failed( 'no-room', 'the snapshot can’t be read back whole' );
		}
		$check->close();
		rename( "$file.part", $file );
		return array( 'snapshot' => $id, 'files' => $count, 'bytes' => filesize( $file ), 'written' => Site::look()['written'] );
	}

	private static function files( string $root ): \Generator {
		$walk = new \RecursiveIteratorIterator( new \RecursiveDirectoryIterator( $root, \FilesystemIterator::SKIP_DOTS ) );
		foreach ( $walk as $file ) {
			if ( $file->isFile() && ! $file->isLink() ) {
				yield $file->getPathname();
			}
		}
	}

	/** The links under the root, which an archive would follow or lose: where each leads. */
	private static function links( string $root ): array {
		$links = array();
		$walk  = new \RecursiveIteratorIterator( new \RecursiveDirectoryIterator( $root, \FilesystemIterator::SKIP_DOTS ), \RecursiveIteratorIterator::SELF_FIRST );
		foreach ( $walk as $file ) {
			if ( $file->isLink() ) {
				$links[ substr( $file->getPathname(), strlen( $root ) + 1 ) ] = readlink( $file->getPathname() );
			}
		}
		return $links;
	}

	/** The tables of this site as statements, a row at a time, so that memory stays small. */
	private function dump( string $file ): void {
		global $wpdb;
		$out = fopen( $file, 'w' );
		self::asked( 'START TRANSACTION WITH CONSISTENT SNAPSHOT' ); // as it was at one instant
		$like = $wpdb->prepare( 'SHOW FULL TABLES LIKE %s', $wpdb->esc_like( $wpdb->prefix ) . '%' );
		foreach ( mysqli_fetch_all( self::asked( $wpdb->remove_placeholder_escape( $like ) ) ) as list( $table, $kind ) ) {
			if ( 'BASE TABLE' !== $kind ) {
				continue; // a view holds nothing of its own, and stays
			}
			$made = mysqli_fetch_row( self::asked( "SHOW CREATE TABLE `$table`" ) );
			self::put( $out, "DROP TABLE IF EXISTS `$table`;\n-- next\n{$made[1]};\n-- next\n" );
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
	private static function asked( string $statement, int $how = MYSQLI_STORE_RESULT ) {
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

	private function restore( string $id, string $snapshot ): array {
		$file = "{$this->memory->place}/snapshots/" . Memory::safe( $snapshot ) . '.zip';
		$zip  = new \ZipArchive();
		if ( ! is_file( $file ) || true !== $zip->open( $file ) ) {
			throw new Failed( 'not-permitted', 'there is no such snapshot' );
		}
		$fresh = "{$this->memory->place}/staging/$id";
		self::clear( $fresh );
		if ( ! $zip->extractTo( $fresh ) ) {
			throw new Failed( 'no-room', 'the snapshot can’t be opened beside the site' );
		}
		$count = $zip->numFiles;
		$zip->close();
		if ( self::END !== (string) @file_get_contents( "$fresh/database.sql", false, null, max( 0, (int) @filesize( "$fresh/database.sql" ) - strlen( self::END ) ) ) ) {
			throw new Failed( 'wrong-archive', 'the snapshot holds no whole database' );
		}
		foreach ( (array) json_decode( (string) @file_get_contents( "$fresh/links.json" ), true ) as $path => $target ) {
			@mkdir( dirname( "$fresh/files/$path" ), 0755, true );
			symlink( $target, "$fresh/files/$path" );
		}
		$aside = "{$this->memory->place}/kept/$id";
		@mkdir( $aside, 0700, true );
		$root = rtrim( ABSPATH, '/' );
		foreach ( array( 'wp-content', 'wp-includes', 'wp-admin' ) as $folder ) {
			if ( ! is_dir( "$aside/$folder" ) ) { // else it was swapped by a call that died later
				$this->swap( "$root/$folder", "$aside/$folder", "$fresh/files/$folder" );
			}
		}
		foreach ( (array) glob( "$fresh/files/{,.}*", GLOB_BRACE ) as $path ) {
			$place = "$root/" . basename( $path );
			if ( is_file( $path ) && ! is_link( $path ) && ! ( @copy( $path, "$place.part" ) && rename( "$place.part", $place ) ) ) {
				@unlink( "$place.part" );
				throw new Failed( 'no-room', basename( $path ) . ' can’t be put back' );
			}
		}
		$statement = '';
		$lines     = fopen( "$fresh/database.sql", 'r' );
		while ( false !== ( $line = fgets( $lines ) ) ) {
			if ( "-- next\n" !== $line ) {
				$statement .= $line;
				continue;
			}
			self::asked( rtrim( $statement, ";\n" ) );
			$statement = '';
		}
		fclose( $lines );
		wp_cache_flush();
		self::clear( $fresh );
		return array( 'restored' => $snapshot, 'files' => $count );
	}

	private function drop( array $snapshots, array $kept ): array {
		$before = self::bytes( $this->memory->place );
		foreach ( $snapshots as $name ) {
			@unlink( "{$this->memory->place}/snapshots/" . Memory::safe( (string) $name ) . '.zip' );
		}
		foreach ( $kept as $name ) {
			self::clear( "{$this->memory->place}/kept/" . Memory::safe( (string) $name ) );
			@unlink( "{$this->memory->place}/kept/" . Memory::safe( (string) $name ) . '.name' );
		}
		return array( 'freed' => max( 0, $before - self::bytes( $this->memory->place ) ) );
	}

	private static function bytes( string $folder ): int {
		$bytes = 0;
		foreach ( self::files( $folder ) as $path ) {
			$bytes += filesize( $path );
		}
		return $bytes;
	}

	/** Take a folder away, with all that is in it. */
	public static function clear( string $folder ): void {
		if ( ! is_dir( $folder ) ) {
			return;
		}
		$walk = new \RecursiveIteratorIterator( new \RecursiveDirectoryIterator( $folder, \FilesystemIterator::SKIP_DOTS ), \RecursiveIteratorIterator::CHILD_FIRST );
		foreach ( $walk as $file ) {
			$file->isDir() && ! $file->isLink() ? rmdir( $file->getPathname() ) : unlink( $file->getPathname() );
		}
		rmdir( $folder );
	}
}
