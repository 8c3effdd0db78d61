<?php
/**
 * What of a site goes into the archive of a snapshot, and how it is laid out again: each file as it
 * was, byte for byte, with its mode and its time, whatever the site does meanwhile.
 */

namespace Windbreak;

final class Archive {
	const PIECE = 262144; // bytes of a file in one write
	const RAW   = 64;     // a name as its bytes are (ZIP_FL_ENC_RAW): older sites have names that are no UTF-8

	/**
	 * List every file and folder of the site under a root in an archive, which is written later. A file is
	 * held by a second name until then, since a site takes files of its own away at any time.
	 * Where its links lead, by their names, the files that could not be held, and how many there
	 * are. Throws Failed.
	 */
	public static function listed( \ZipArchive $zip, string $root, string $held, callable $sign ): array {
		Folders::clear( $held );
		mkdir( $held, 0700 );
		$links = array();
		$loose = array();
		$files = 0;
		foreach ( self::every( $root ) as $name => $entry ) {
			$path  = $entry->getPathname();
			$shown = 0 === strpos( $name, 'files/' ) ? substr( $name, strlen( 'files/' ) ) : $path;
			if ( $entry->isLink() ) {
				$links[ $name ] = readlink( $path );
				continue;
			}
			$mode = (int) @fileperms( $path );
			if ( ! $entry->isFile() && ! $entry->isDir() ) {
				continue; // it is gone; or it is a socket, a pipe: nothing that could be kept
			}
			if ( ! is_readable( $path ) && file_exists( $path ) ) {
				throw new Failed( 'not-permitted', "a snapshot would not be whole, since PHP may not read $shown: have that changed, or the file moved out of the site" );
			}
			if ( $entry->isDir() ) {
				$zip->addEmptyDir( $name );
			} else {
				$second = "$held/{$zip->numFiles}";
				if ( ! @link( $path, $second ) ) {
					if ( ! file_exists( $path ) ) {
						continue;
					}
					$loose[] = $second = $path;
				}
				if ( ! @$zip->addFile( $second, $name ) ) {
					if ( ! file_exists( $path ) ) {
						continue;
					}
					throw new Failed( 'unknown', "$shown can’t be put into a snapshot" );
				}
				$files += 1;
				$zip->setCompressionIndex( $zip->numFiles - 1, \ZipArchive::CM_STORE ); // time counts here more than room
			}
			$zip->setExternalAttributesIndex( $zip->numFiles - 1, \ZipArchive::OPSYS_UNIX, $mode << 16 );
			if ( 0 === $zip->numFiles % 500 ) {
				$sign( 'files', $zip->numFiles, 0 );
			}
		}
		return array( $links, $loose, $files );
	}

	/**
	 * What of the site lies outside of its root, by what it is: its content, or some of that, named
	 * elsewhere or reached through a link.
	 */
	public static function elsewhere( string $root ): array {
		$root   = (string) realpath( $root );
		$places = array( 'content' => WP_CONTENT_DIR, 'plugins' => defined( 'WP_PLUGIN_DIR' ) ? WP_PLUGIN_DIR : WP_CONTENT_DIR . '/plugins', 'first' => defined( 'WPMU_PLUGIN_DIR' ) ? WPMU_PLUGIN_DIR : WP_CONTENT_DIR . '/mu-plugins', 'themes' => WP_CONTENT_DIR . '/themes', 'uploads' => self::uploads() );
		$found  = array();
		foreach ( $places as $kind => $place ) {
			$place = (string) realpath( $place );
			$in    = array_filter(
				array_merge( array( $root ), array_values( $found ) ),
				static function ( $above ) use ( $place ) {
					return $place === $above || 0 === strpos( $place, "$above/" );
				}
			);
			if ( '' !== $place && ! $in ) {
				$found[ $kind ] = $place;
			}
		}
		return $found;
	}

	/** Where each kind of content lies in the root, unless it is elsewhere: as names under that. */
	public static function usual( string $kind ): string {
		$content = basename( WP_CONTENT_DIR );
		return 'content' === $kind ? $content : "$content/" . ( 'first' === $kind ? 'mu-plugins' : $kind );
	}

	private static function uploads(): string {
		$told = (string) get_option( 'upload_path' );
		$path = '' === $told || 'wp-content/uploads' === $told ? WP_CONTENT_DIR . '/uploads' : ( '/' === $told[0] ? $told : ABSPATH . $told );
		return defined( 'UPLOADS' ) ? ABSPATH . UPLOADS : $path;
	}

	/** Everything of the site: under its root, and elsewhere; each with the name that it has in an archive. */
	private static function every( string $root ): \Generator {
		foreach ( self::of_site( $root ) as $entry ) {
			yield 'files/' . substr( $entry->getPathname(), strlen( $root ) + 1 ) => $entry;
		}
		foreach ( self::elsewhere( $root ) as $kind => $place ) {
			foreach ( Folders::every( $place ) as $entry ) {
				yield "beside/$kind/" . substr( $entry->getPathname(), strlen( $place ) + 1 ) => $entry;
			}
		}
	}

	/** Everything of the site under its root: of other sites, whose folders may lie in it, nothing. */
	private static function of_site( string $root ): \Generator {
		foreach ( new \FilesystemIterator( $root ) as $top ) {
			if ( ! self::is_another( $top ) ) {
				yield $top;
				if ( $top->isDir() && ! $top->isLink() ) {
					yield from Folders::every( $top->getPathname() );
				}
			}
		}
	}

	/** Whether something in the root is the folder of another site, or holds one. */
	public static function is_another( \SplFileInfo $top ): bool {
		$own = array( 'wp-admin', 'wp-includes', defined( 'WP_CONTENT_DIR' ) ? basename( WP_CONTENT_DIR ) : 'wp-content' );
		if ( ! $top->isDir() || $top->isLink() || in_array( $top->getFilename(), $own, true ) ) {
			return false;
		}
		foreach ( array( '', '/*', '/*/*' ) as $deep ) {
			if ( glob( addcslashes( $top->getPathname(), '*?[\\' ) . "$deep/wp-load.php" ) ) {
				return true;
			}
		}
		return false;
	}

	/**
	 * Lay out what lies in a snapshot, with the times and modes it had, and links by where they lead.
	 * A file that is still the same under the root is laid out as a second name of that one, which
	 * needs neither time nor room. Yields how many are laid out. Throws Failed.
	 */
	public static function unpack( \ZipArchive $zip, array $links, string $root, string $place ): \Generator {
		$root    = (string) realpath( $root );
		$beside  = self::elsewhere( $root );
		$folders = array(); // their modes: given once all is in them
		for ( $n = 0; $n < $zip->numFiles; $n++ ) {
			$entry = (array) $zip->statIndex( $n );
			$name  = (string) $zip->getNameIndex( $n, self::RAW );
			if ( 0 !== strpos( $name, 'files/' ) && 0 !== strpos( $name, 'beside/' ) ) {
				continue; // what goes with them
			}
			self::leads_in( $name );
			$name  = self::here( $name, $beside );
			$path  = "$place/$name";
			$folder = '/' === substr( $path, -1 ) ? $path : dirname( $path );
			if ( ! is_dir( $folder ) && ! @mkdir( $folder, 0755, true ) ) {
				throw new Failed( 'no-room', 'the snapshot can’t be opened beside the site' );
			}
			$unix = $zip->getExternalAttributesIndex( $n, $system, $mode ) && \ZipArchive::OPSYS_UNIX === $system && $mode >> 16;
			$mode = $unix ? ( $mode >> 16 ) & 07777 : null;
			if ( $folder === $path ) {
				$folders[ $path ] = $mode;
				continue;
			}
			list( $kind, $in ) = array_pad( explode( '/', substr( $name, strlen( 'beside/' ) ), 2 ), 2, '' );
			$there = 0 === strpos( $name, 'files/' ) ? $root . substr( $name, strlen( 'files' ) ) : "{$beside[ $kind ]}/$in";
			if ( realpath( $there ) !== $there || ! self::is_still( $zip, $entry, $mode, $there ) || ! @link( $there, $path ) ) {
				self::unpack_file( $zip, $entry, $path );
				touch( $path, $entry['mtime'] );
				null === $mode || chmod( $path, $mode );
			}
			yield $n;
		}
		foreach ( $links as $path => $target ) {
			self::leads_in( $path );
			$path = self::here( $path, $beside );
			if ( ! is_dir( "$place/$path" ) ) { // what it led to is here itself, where it lay elsewhere
				@mkdir( dirname( "$place/$path" ), 0755, true );
				symlink( $target, "$place/$path" );
			}
		}
		foreach ( array_reverse( array_filter( $folders, 'is_int' ) ) as $path => $mode ) {
			chmod( $path, $mode );
		}
	}

	/** The name, on this site, of something in a snapshot: what lay elsewhere on the other may lie in the root here. */
	private static function here( string $name, array $beside ): string {
		if ( ! preg_match( '#^beside/([a-z]+)/(.*)$#s', $name, $match ) || isset( $beside[ $match[1] ] ) ) {
			return $name;
		}
		return 'files/' . self::usual( $match[1] ) . "/$match[2]";
	}

	/** Throw Failed where a path of a snapshot leads out of the folder that it is laid out in. */
	private static function leads_in( string $path ): void {
		if ( preg_match( '#(^|/)\.\.(/|$)#', $path ) ) {
			throw new Failed( 'wrong-archive', "the snapshot holds a path that leads out: $path" );
		}
	}

	/** Whether a file is what a snapshot holds of it, byte for byte, with its time and mode. */
	private static function is_still( \ZipArchive $zip, array $entry, ?int $mode, string $file ): bool {
		$now = @stat( $file );
		if ( ! $now || $now['size'] !== $entry['size'] || ( $now['mode'] & 07777 ) !== $mode || abs( $now['mtime'] - $entry['mtime'] ) > 1 ) {
			return false; // an archive keeps every other second
		}
		$has  = @fopen( $file, 'r' );
		$held = @$zip->getStream( $entry['name'] );
		$same = $has && $held;
		if ( $same ) {
			stream_set_chunk_size( $has, self::PIECE );
			stream_set_chunk_size( $held, self::PIECE );
		}
		for ( $left = $entry['size']; $same && $left > 0; $left -= strlen( $part ) ) {
			$part = (string) @fread( $held, min( $left, self::PIECE ) );
			$same = '' !== $part && @fread( $has, strlen( $part ) ) === $part;
		}
		return $same;
	}

	/** Lay out one file. Throws Failed where it is not what was put in, too. */
	public static function unpack_file( \ZipArchive $zip, array $entry, string $path ): void {
		$right = true; // a sum that is not right is told by a warning, and by nothing else
		set_error_handler(
			static function () use ( &$right ): bool {
				$right = false;
				return true;
			}
		);
		try {
			$out = fopen( $path, 'w' );
			$in  = $right ? $zip->getStream( $entry['name'] ) : false;
			$has = 0;
			$in && stream_set_chunk_size( $in, self::PIECE );
			while ( $right && $in && is_string( $part = fread( $in, self::PIECE ) ) && '' !== $part ) {
				$written = fwrite( $out, $part );
				$has    += strlen( $part );
				if ( strlen( $part ) !== $written ) {
					$out = false;
					break;
				}
			}
			if ( ! $out || ! fclose( $out ) ) {
				throw new Failed( 'no-room', 'the snapshot can’t be opened beside the site' );
			}
			if ( ! $right || $has !== $entry['size'] ) {
				throw new Failed( 'wrong-archive', "the snapshot is damaged: {$entry['name']} is not what was put in" );
			}
		} finally {
			restore_error_handler();
		}
	}
}
