<?php
/**
 * Packages of themes and plugins: examined before anything is touched, swapped in by renames, the
 * old folder kept aside with its name, so that it can be put back.
 */

namespace Windbreak;

final class Packages {
	const NOTE     = 'swap.json'; // what is being swapped, while it is
	const ROOM_FOR = 6;           // times its size that a package takes while it is opened
	const HELD     = 86400;       // seconds that a package sent in parts is held

	/** @var Memory */
	private $memory;

	public function __construct( Memory $memory ) {
		$this->memory = $memory;
	}

	/** Take a part of a package; it is applied once the whole is here. */
	public function hold( array $args ): array {
		foreach ( (array) glob( "{$this->memory->place}/staging/held-*" ) as $old ) {
			if ( filemtime( $old ) < time() - self::HELD ) {
				unlink( $old );
			}
		}
		return array( 'have' => Snapshots::take_part( $this->held( $args ), $args ) );
	}

	private function held( array $args ): string {
		if ( ! preg_match( '/^[0-9a-f]{64}$/', (string) $args['sha256'] ) ) {
			throw new Failed( 'checksum', 'that is no sum of a package' );
		}
		return "{$this->memory->place}/staging/held-{$args['sha256']}";
	}

	/** The file of a package that a call brings, whole or in parts before it. Throws Failed. */
	public function file( string $id, array $args ): string {
		if ( $args['site'] !== $this->memory->fact( 'site' ) ) {
			throw new Failed( 'not-permitted', "this package is for {$args['site']}" );
		}
		$file = "{$this->memory->place}/staging/$id.zip";
		if ( isset( $args['archive'] ) ) {
			$archive = (string) base64_decode( (string) $args['archive'], true );
			if ( strlen( $archive ) !== @file_put_contents( $file, $archive ) ) {
				@unlink( $file );
				throw new Failed( 'no-room', 'the package can’t be written' );
			}
		} elseif ( ! @rename( $this->held( $args ), $file ) ) {
			throw new Failed( 'fetch-failed', 'the package was not brought whole' );
		}
		if ( filesize( $file ) !== (int) $args['size'] || ! hash_equals( (string) $args['sha256'], (string) hash_file( 'sha256', $file ) ) ) {
			unlink( $file );
			throw new Failed( 'checksum', 'the package is not the one that was signed for' );
		}
		return $file;
	}

	public function apply( string $id, array $args ): array {
		$product = (string) $args['product'];
		$version = (string) $args['version'];
		$file    = $this->file( $id, $args );
		try {
			if ( 0 === strpos( $product, 'core/' ) ) {
				self::is_start( $product, rtrim( ABSPATH, '/' ), $version, $args['from'] ?? null );
				return ( new Core( $this->memory ) )->apply( $id, $file, $product, $version );
			}
			return $this->put( $id, $file, $product, $version, (array) ( $args['carry'] ?? array() ), $args['from'] ?? null );
		} finally {
			@unlink( $file );
			Folders::clear( "{$this->memory->place}/staging/$id" );
		}
	}

	private function put( string $id, string $file, string $product, string $version, array $carry, ?array $start ): array {
		$fresh  = $this->opened( $id, $file, $product, $version );
		$target = Site::folder( $product ) ?? Site::place( $product ) . '/' . basename( $fresh );
		$had    = is_dir( $target );
		$aside  = "{$this->memory->place}/kept/$id";
		if ( $had && Site::version_in( $product, $target ) === $version ) {
			throw new Failed( 'already-there', "$product $version" );
		}
		if ( ! is_writable( dirname( $target ) ) ) {
			throw new Failed( 'not-writable', dirname( $target ) . ' can’t be written' );
		}
		self::is_start( $product, $target, $version, $start );
		$since  = time() - 2;
		$before = $had ? self::stamps( $target, $since ) : array();
		foreach ( $had ? array_merge( $carry, self::added( $product, $start ) ) : array() as $path ) {
			$this->carry( $target, $fresh, (string) $path );
		}
		$this->swap( $target, $aside, $fresh );
		if ( $had && null !== $start ) {
			$this->carry_late( $target, $aside, $before, $since, "$fresh-refused" );
		}
		return array( 'version' => $version, 'kept' => $had );
	}

	/** Throw Failed where a component is another than a call starts from, and than it leads to. */
	private static function is_start( string $product, string $folder, string $version, ?array $start ): void {
		$there = is_dir( $folder ) ? Site::version_in( $product, $folder ) : null;
		if ( null !== $start && $there !== $version && $there !== $start['version'] ) {
			throw new Failed( 'not-as-expected', "$product is " . ( $there ?? 'absent' ) . ' here, and was to be ' . ( $start['version'] ?? 'absent' ) );
		}
	}

	/** The files that were added to what is replaced. Throws Failed where one was changed in place that nobody decided on. */
	private static function added( string $product, ?array $start ): array {
		$added = array();
		foreach ( empty( $start['pristine'] ) ? array() : Site::own_files( $product, $start['pristine'] ) as $own ) {
			if ( 'added' === $own['state'] ) {
				$added[] = $own['path'];
			} elseif ( 'changed' === $own['state'] && ( $start['decided'][ $own['path'] ] ?? '' ) !== $own['sha256'] ) {
				throw new Failed( 'own-files-changed', "{$own['path']} of $product was changed in place since it was looked at" );
			}
		}
		return $added;
	}

	/** When each file of a folder was written last, and its size; of what was written since some second, its sum too: a time has whole seconds. */
	private static function stamps( string $folder, int $since ): array {
		clearstatcache();
		$stamps = array();
		foreach ( Folders::every( $folder ) as $file ) {
			if ( $file->isFile() && ! $file->isLink() ) {
				$stamps[ substr( $file->getPathname(), strlen( $folder ) + 1 ) ] = array( $file->getMTime(), $file->getSize(), $file->getMTime() >= $since ? md5_file( $file->getPathname() ) : '' );
			}
		}
		return $stamps;
	}

	/** Take along what was written right before the swap; where that was an edit, the old folder comes back. Throws Failed. */
	private function carry_late( string $target, string $aside, array $before, int $since, string $refused ): void {
		foreach ( self::stamps( $aside, $since ) as $path => $stamp ) {
			if ( isset( $before[ $path ] ) && $before[ $path ] !== $stamp ) {
				$this->swap( $target, $refused, $aside );
				Folders::clear( $refused );
				@unlink( "$refused.name" );
				throw new Failed( 'own-files-changed', "$path was changed during the swap" );
			}
			if ( ! isset( $before[ $path ] ) && ! file_exists( "$target/$path" ) ) {
				$this->carry( $aside, $target, (string) $path );
			}
		}
	}

	/** The folder of a package, opened beside, once it was seen to be what it is said to be. Throws Failed. */
	public function opened( string $id, string $file, string $product, string $version ): string {
		$folder = "{$this->memory->place}/staging/$id";
		Folders::clear( $folder );
		if ( disk_free_space( $this->memory->place ) < self::ROOM_FOR * filesize( $file ) ) {
			throw new Failed( 'no-room', 'there is too little room to open it beside the site' );
		}
		$zip  = new \ZipArchive();
		$root = self::root_of( $zip, $file, $product );
		if ( ! @$zip->extractTo( $folder ) ) {
			throw new Failed( 'no-room', 'it can’t be opened beside the site' );
		}
		$zip->close();
		self::is_version( $product, Site::version_in( $product, "$folder/$root" ), $version );
		return "$folder/$root";
	}

	/** Open an archive, and name the one folder that it holds: that of a product. Throws Failed. */
	public static function root_of( \ZipArchive $zip, string $file, string $product ): string {
		if ( true !== $zip->open( $file ) ) {
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
		if ( 1 !== count( $roots ) ) {
			throw new Failed( 'wrong-archive', 'it does not hold one folder, and that alone' );
		}
		$root = (string) array_keys( $roots )[0];
		if ( Site::slug( $root ) !== ( explode( '/', $product )[1] ?? '' ) ) {
			throw new Failed( 'wrong-archive', "its folder is $root, and not that of $product" );
		}
		return $root;
	}

	/** Throw Failed where a package holds another version than it was said to. */
	public static function is_version( string $product, ?string $found, string $version ): void {
		if ( $found !== $version ) {
			throw new Failed( 'wrong-archive', null === $found ? "it holds no $product" : "it holds version $found, and not $version" );
		}
	}

	/** Take a file of the site's own into the folder that takes its place. */
	private function carry( string $old, string $new, string $path ): void {
		if ( '' === $path || '/' === $path[0] || preg_match( '#(^|/)\.\.(/|$)#', $path ) || is_link( "$old/$path" ) ) {
			throw new Failed( 'not-permitted', "$path can't be carried over" );
		}
		if ( is_file( "$old/$path" ) ) {
			@mkdir( dirname( "$new/$path" ), 0755, true );
			if ( ! Folders::copied( "$old/$path", "$new/$path" ) ) {
				throw new Failed( 'no-room', "$path can’t be carried over" );
			}
		}
	}

	public function put_back( string $id, string $product, string $of, bool $added ): array {
		$kept = "{$this->memory->place}/kept/" . Memory::safe( $of );
		if ( ! is_dir( $kept ) && ! $added ) {
			throw new Failed( 'not-permitted', 'nothing was kept of that change' );
		}
		if ( 0 === strpos( $product, 'core/' ) ) {
			return ( new Core( $this->memory ) )->put_back( $id, $kept );
		}
		$target = Site::folder( $product ) ?? ( is_file( "$kept.name" ) ? Site::place( $product ) . '/' . trim( (string) file_get_contents( "$kept.name" ) ) : null );
		if ( null !== $target ) {
			$this->swap( $target, "{$this->memory->place}/kept/$id", $kept );
		}
		return array();
	}

	public function remove( string $id, string $product ): array {
		$target = Site::folder( $product );
		if ( null === $target ) {
			throw new Failed( 'already-there', "$product is gone already" );
		}
		$this->swap( $target, "{$this->memory->place}/kept/$id", '' );
		return array();
	}

	/**
	 * Put a folder in the place of another, which is kept aside with its name. Both are beside its place
	 * before, on its own disk, so that the change itself is two renames:
	 *
	 *     fresh -> .windbreak-new-NAME     target -> .windbreak-old-NAME
	 *     .windbreak-new-NAME -> target    .windbreak-old-NAME -> aside
	 */
	public function swap( string $target, string $aside, string $fresh ): void {
		$name = basename( $target );
		$note = compact( 'target', 'aside', 'fresh' ) + array(
			'new'  => dirname( $target ) . "/.windbreak-new-$name",
			'old'  => dirname( $target ) . "/.windbreak-old-$name",
			'done' => false,
		);
		$this->memory->write( self::NOTE, $note );
		try {
			if ( '' !== $fresh && is_dir( $fresh ) ) {
				Folders::move( $fresh, $note['new'] );
			}
			if ( is_dir( $target ) ) {
				file_put_contents( "$aside.name", $name );
				Folders::move( $target, $note['old'] );
			}
			if ( is_dir( $note['new'] ) ) {
				Folders::move( $note['new'], $target );
			}
			$this->memory->write( self::NOTE, array( 'done' => true ) + $note );
			if ( is_dir( $note['old'] ) ) {
				Folders::move( $note['old'], $aside );
			}
			Folders::compile_anew( $target, $aside );
		} catch ( Failed $error ) {
			self::undone( $note );
			@unlink( "{$this->memory->place}/" . self::NOTE );
			throw $error;
		}
		@unlink( "{$this->memory->place}/" . self::NOTE );
	}

	/** Have a folder in its place again that was to be swapped, and what was to come where it came from. */
	private static function undone( array $note ): void {
		if ( is_dir( $note['old'] ) ) {
			is_dir( $note['target'] ) && ! is_dir( $note['new'] ) && '' !== $note['fresh'] && Folders::move( $note['target'], $note['new'] );
			Folders::clear( $note['target'] );
			Folders::move( $note['old'], $note['target'] );
		}
		if ( is_dir( $note['new'] ) ) { // whole, as it never is before it has this name
			Folders::clear( $note['fresh'] );
			Folders::move( $note['new'], $note['fresh'] );
		}
		Folders::compile_anew( $note['target'] );
	}

	/** End a swap whose doer died: undone where the new folder was not in its place yet. */
	public static function mend( Memory $memory ): void {
		$note = $memory->read( self::NOTE );
		if ( null === $note || null === ( $lock = $memory->lock() ) ) {
			return; // nothing was being swapped, or it is right now
		}
		if ( ! isset( $note['done'] ) ) { // as agents up to 1.2 wrote it: the old folder went aside at once
			is_dir( $note['target'] ) || ! is_dir( $note['aside'] ) || Folders::move( $note['aside'], $note['target'] );
		} elseif ( ! $note['done'] ) {
			self::undone( $note );
		} elseif ( is_dir( $note['old'] ) ) {
			Folders::clear( $note['aside'] ); // it was half there, at the most
			Folders::move( $note['old'], $note['aside'] );
		}
		Folders::compile_anew( $note['target'] );
		array_map( array( Folders::class, 'clear' ), (array) glob( dirname( $note['target'] ) . '/.windbreak-half-*' ) );
		@unlink( "{$memory->place}/" . self::NOTE );
		flock( $lock, LOCK_UN );
	}
}
