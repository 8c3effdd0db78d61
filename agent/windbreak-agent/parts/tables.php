<?php
/**
 * The tables of a site, written out as statements and made anew beside those that are there; then
 * put in their place by one statement. What is no table (foreign keys, triggers, views) is made
 * anew after that: those of before would be in its way.
 */

namespace Windbreak;

final class Tables {
	const BYTES = 524288;          // of the rows in one statement, unless one alone is larger
	const ONCE = 16;               // statements that fill a table, each time they are put to the disk
	const NEXT = "-- next\n";      // after each statement
	const END  = "-- end\n";       // the last line of a database that is whole
	const NEW  = 'windbreak_new_'; // tables of a restore before they are in place; whose they are follows
	const OLD  = 'windbreak_old_'; // tables that were there, until they are gone
	const KEY  = '/,\s*CONSTRAINT `([^`]+)` (FOREIGN KEY [^\n]*?)(?=,?\n)/'; // a foreign key, in the statement that makes its table

	/** What the database answers, by the one connection there is: another would see another instant. Throws Failed. */
	public static function asked( string $statement, int $how = MYSQLI_STORE_RESULT ) {
		global $wpdb;
		return self::answered( mysqli_query( $wpdb->dbh, $statement, $how ) );
	}

	/** Put a statement to the database, and yield for as long as it is at it: nothing else may be asked until then. Throws Failed. */
	private static function done_beside( string $statement ): \Generator {
		global $wpdb;
		if ( ! function_exists( 'mysqli_poll' ) ) {
			self::asked( $statement ); // a PHP that can't do anything else meanwhile
			return;
		}
		self::answered( mysqli_query( $wpdb->dbh, $statement, MYSQLI_ASYNC ) );
		try {
			do {
				$seconds = (int) yield; // for which whoever asks has nothing else to do
				$there   = array( $wpdb->dbh );
				$wrong   = $there;
				$none    = array();
			} while ( 0 === mysqli_poll( $there, $wrong, $none, $seconds ) );
		} finally {
			$answer = mysqli_reap_async_query( $wpdb->dbh );
		}
		self::answered( $answer );
	}

	private static function answered( $answer ) {
		global $wpdb;
		if ( false === $answer ) {
			throw new Failed( 'unknown', 'the database: ' . mysqli_error( $wpdb->dbh ) );
		}
		return $answer;
	}

	/** The tables of this site, or its views; of a site that shares its database none. */
	private static function named( string $kind = 'BASE TABLE' ): array {
		global $wpdb;
		$like  = $wpdb->prepare( 'SHOW FULL TABLES LIKE %s', $wpdb->esc_like( $wpdb->prefix ) . '%' );
		$every = array_column( mysqli_fetch_all( self::asked( $wpdb->remove_placeholder_escape( $like ) ) ), 1, 0 );
		$others = array();
		foreach ( array_keys( $every ) as $table ) {
			$prefix = substr( $table, 0, -7 );
			if ( 'options' === substr( $table, -7 ) && strlen( $prefix ) > strlen( $wpdb->prefix ) && isset( $every[ "{$prefix}users" ] ) ) {
				$others[] = $prefix; // another site's: members of a network share their users
			}
		}
		return array_values(
			array_filter(
				array_keys( $every, $kind, true ),
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

	// Written out.

	/** Write the tables as statements, a row at a time, so that memory stays small; the triggers and views beside them, and the mark of what was written by that instant. */
	public static function dump( string $file, callable $sign ): array {
		global $wpdb;
		$out = fopen( $file, 'w' );
		self::asked( 'START TRANSACTION WITH CONSISTENT SNAPSHOT' ); // as it was at one instant
		$written = Site::written( array() );
		$tables  = self::named();
		foreach ( $tables as $n => $table ) {
			$sign( 'database', $n, count( $tables ) );
			$made = mysqli_fetch_row( self::asked( "SHOW CREATE TABLE `$table`" ) );
			self::put( $out, "{$made[1]};\n" . self::NEXT );
			$columns = self::columns( $table );
			$begin   = "INSERT INTO `$table` (" . implode( ',', $columns ) . ') VALUES ';
			$rows    = self::asked( 'SELECT ' . implode( ',', array_map( array( self::class, 'quoted' ), $columns ) ) . " FROM `$table`", MYSQLI_USE_RESULT );
			$some    = '';
			while ( is_array( $row = mysqli_fetch_row( $rows ) ) ) {
				if ( in_array( null, $row, true ) ) {
					mysqli_free_result( $rows ); // else the connection could be asked nothing more
					throw new Failed( 'unknown', "the database: a value in $table is larger than it lets be asked for (max_allowed_packet)" );
				}
				$some .= ( '' === $some ? '(' : ',(' ) . implode( ',', $row ) . ')';
				if ( strlen( $some ) >= self::BYTES ) {
					self::put( $out, $begin . $some . ";\n" . self::NEXT );
					$some = '';
				}
			}
			if ( mysqli_errno( $wpdb->dbh ) ) {
				throw new Failed( 'unknown', "the database, in mid-table $table: " . mysqli_error( $wpdb->dbh ) );
			}
			mysqli_free_result( $rows );
			self::put( $out, '' === $some ? '' : $begin . $some . ";\n" . self::NEXT );
		}
		$beside = array( 'triggers' => self::triggers( $tables ), 'views' => self::views() );
		self::asked( 'COMMIT' );
		self::put( $out, self::END );
		if ( ! fclose( $out ) ) {
			throw new Failed( 'no-room', 'the database can’t be written into a snapshot' );
		}
		return array( $beside, $written );
	}

	/** The columns of a table that hold something of their own: what the database reckons itself can't be given to it. */
	private static function columns( string $table ): array {
		$names = array();
		foreach ( mysqli_fetch_all( self::asked( "SHOW COLUMNS FROM `$table`" ), MYSQLI_ASSOC ) as $column ) {
			if ( false === stripos( $column['Extra'], 'generated' ) || false !== stripos( $column['Extra'], 'default_generated' ) ) {
				$names[] = "`{$column['Field']}`";
			}
		}
		return $names;
	}

	/** A column as the database itself writes it into a statement: NULL as a word, bits as bits; a line's end as `\n`, so that no value looks like the end of a statement. */
	private static function quoted( string $column ): string {
		return "REPLACE(QUOTE($column), _utf8mb4 x'0A', _utf8mb4 x'5C6E')";
	}

	private static function put( $out, string $text ): void {
		if ( strlen( $text ) !== @fwrite( $out, $text ) ) {
			throw new Failed( 'no-room', 'the database can’t be written into a snapshot' );
		}
	}

	/** The triggers of some tables: the statement that makes each, by its name. */
	private static function triggers( array $tables ): array {
		$found = array();
		foreach ( mysqli_fetch_all( self::asked( 'SHOW TRIGGERS' ), MYSQLI_ASSOC ) as $one ) {
			if ( in_array( $one['Table'], $tables, true ) ) {
				$made                     = mysqli_fetch_assoc( self::asked( "SHOW CREATE TRIGGER `{$one['Trigger']}`" ) );
				$found[ $one['Trigger'] ] = self::anybodys( (string) $made['SQL Original Statement'] );
			}
		}
		return $found;
	}

	/** The views of this site, likewise; one that looks at what is gone can't be made anew, and is named alone. */
	private static function views(): array {
		global $wpdb;
		$found = array();
		foreach ( self::named( 'VIEW' ) as $view ) {
			$works          = mysqli_query( $wpdb->dbh, "SELECT * FROM `$view` LIMIT 0" );
			$found[ $view ] = false === $works ? null : self::anybodys( (string) mysqli_fetch_row( self::asked( "SHOW CREATE VIEW `$view`" ) )[1] );
			false === $works || mysqli_free_result( $works );
		}
		return $found;
	}

	/** A statement without whose it was, since the database of a twin knows nobody of that name. */
	private static function anybodys( string $statement ): string {
		return (string) preg_replace( '/^(CREATE\b.*?) DEFINER\s*=\s*(?:`[^`]*`|\'[^\']*\'|\w+)@(?:`[^`]*`|\'[^\']*\'|[\w.%]+)/i', '$1', $statement, 1 );
	}

	// Made anew.

	/** Whether a file of statements is whole. */
	public static function whole( string $file ): bool {
		return self::END === (string) @file_get_contents( $file, false, null, max( 0, (int) @filesize( $file ) - strlen( self::END ) ) );
	}

	/** What tells the temporary tables of this site from those of another in the same database. */
	private static function own(): string {
		global $wpdb;
		return substr( hash( 'sha256', $wpdb->prefix ), 0, 10 ) . '_';
	}

	/** Drop what a restore of this site has left beside its tables. */
	public static function clear(): void {
		foreach ( array( self::NEW . self::own(), self::OLD . self::own() ) as $kind ) {
			foreach ( mysqli_fetch_all( self::asked( "SHOW TABLES LIKE '" . self::literally( $kind ) . "%'" ) ) as list( $table ) ) {
				self::asked( "DROP TABLE `$table`" );
			}
		}
	}

	/**
	 * Make the tables of a file beside those that are there, and yield whenever the database is at
	 * it, so that something else can be done meanwhile. What is left to be put in place: `tables`,
	 * the names they will have by those they have beside; `keys`, their foreign keys. Throws Failed.
	 */
	public static function laid_out( string $file, string $prefix ): \Generator {
		global $wpdb;
		if ( $prefix !== $wpdb->prefix ) {
			throw new Failed( 'wrong-archive', "the snapshot’s tables begin with “{$prefix}”, and those here with “{$wpdb->prefix}”" );
		}
		self::asked( 'SET SESSION wait_timeout = 86400' ); // it may wait for long until large files are laid out
		self::asked( 'SET SESSION foreign_key_checks = 0' );
		self::asked( "SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO'" ); // a row that is numbered 0 stays so
		self::clear();
		$tables    = array();
		$keys      = array();
		$statement = '';
		$some      = 0; // statements that are not put to the disk yet
		$lines     = fopen( $file, 'r' );
		try {
			while ( false !== ( $line = fgets( $lines ) ) ) {
				if ( self::NEXT !== $line ) {
					$statement .= $line;
					continue;
				}
				if ( preg_match( '/^CREATE TABLE `([^`]+)`/', $statement, $match ) ) {
					$table             = $match[1];
					$beside            = self::NEW . self::own() . count( $tables );
					$tables[ $beside ] = $table;
					preg_match_all( self::KEY, $statement, $found, PREG_SET_ORDER );
					foreach ( $found as list( , $name, $key ) ) {
						$keys[] = array( $table, $name, $key );
					}
					$some      = 0; // a new table ends what was begun
					$statement = "CREATE TABLE `$beside`" . substr( preg_replace( self::KEY, '', $statement ), strlen( $match[0] ) );
				} else {
					$statement = "INSERT INTO `$beside`" . substr( $statement, strlen( "INSERT INTO `$table`" ) );
					if ( 0 === $some++ % self::ONCE ) {
						self::asked( 'START TRANSACTION' ); // which ends the one before
					}
				}
				yield from self::done_beside( rtrim( $statement, ";\n" ) );
				$statement = '';
			}
			yield from self::done_beside( 'COMMIT' );
		} finally {
			fclose( $lines );
		}
		return compact( 'tables', 'keys' );
	}

	/**
	 * Put what lies beside in its place; may be done again. What could not be made anew of what is
	 * no table: the tables are in their place all the same.
	 */
	public static function put_in_place( array $note ): array {
		$moves = array();
		foreach ( (array) $note['tables'] as $beside => $table ) {
			if ( self::has( $beside ) ) {
				if ( self::has( $table ) ) {
					$moves[] = "`$table` TO `" . self::before( $beside ) . '`';
				}
				$moves[] = "`$beside` TO `$table`";
			}
		}
		self::asked( 'SET SESSION foreign_key_checks = 0' );
		if ( $moves ) {
			self::asked( 'RENAME TABLE ' . implode( ', ', $moves ) ); // all of them, or none
		}
		foreach ( array_keys( (array) $note['tables'] ) as $beside ) {
			self::asked( 'DROP TABLE IF EXISTS `' . self::before( $beside ) . '`' );
		}
		foreach ( array_diff( self::named(), array_values( (array) $note['tables'] ) ) as $newer ) {
			self::asked( "DROP TABLE `$newer`" ); // it came after the snapshot
		}
		return self::made_anew( (array) ( $note['keys'] ?? array() ), (array) ( $note['triggers'] ?? array() ), $note['views'] ?? null );
	}

	/** Make foreign keys, triggers and views anew; the names of those that could not be. */
	private static function made_anew( array $keys, array $triggers, ?array $views ): array {
		$left = array();
		foreach ( $keys as list( $table, $name, $key ) ) {
			$there = (string) mysqli_fetch_row( self::asked( "SHOW CREATE TABLE `$table`" ) )[1];
			if ( false === strpos( $there, "CONSTRAINT `$name`" ) && ! self::done( "ALTER TABLE `$table` ADD CONSTRAINT `$name` $key" ) ) {
				$left[] = $name;
			}
		}
		foreach ( $triggers as $name => $statement ) {
			self::done( "DROP TRIGGER IF EXISTS `$name`" );
			if ( ! self::done( $statement ) ) {
				$left[] = (string) $name;
			}
		}
		foreach ( null === $views ? array() : self::named( 'VIEW' ) as $view ) {
			if ( isset( $views[ $view ] ) || ! array_key_exists( $view, $views ) ) {
				self::done( "DROP VIEW `$view`" );
			}
		}
		$views = array_filter( (array) $views );
		do { // one may look through another
			$before = count( $views );
			foreach ( $views as $name => $statement ) {
				if ( self::done( $statement ) ) {
					unset( $views[ $name ] );
				}
			}
		} while ( count( $views ) < $before );
		return array_merge( $left, array_map( 'strval', array_keys( $views ) ) );
	}

	private static function done( string $statement ): bool {
		global $wpdb;
		return false !== mysqli_query( $wpdb->dbh, $statement );
	}

	/** The name that a table has which was there, until it is gone. */
	private static function before( string $beside ): string {
		return self::OLD . substr( $beside, strlen( self::NEW ) );
	}

	private static function has( string $table ): bool {
		return (bool) mysqli_num_rows( self::asked( "SHOW TABLES LIKE '" . self::literally( $table ) . "'" ) );
	}

	private static function literally( string $name ): string {
		return str_replace( '_', '\\_', $name );
	}
}
