<?php
/**
 * The caches that the system lets somebody drop in: the one of whole pages, and the one of objects.
 * One that is off lies aside, beside the agent's state, until it is on again.
 */

namespace Windbreak;

final class Caches {
	const FILES = array( 'page-cache' => 'advanced-cache.php', 'object-cache' => 'object-cache.php' );

	/** @var Memory */
	private $memory;

	public function __construct( Memory $memory ) {
		$this->memory = $memory;
	}

	/** Each cache that is there, and whether it is on. */
	public function there(): array {
		$there = array();
		foreach ( self::FILES as $name => $file ) {
			$counts = 'page-cache' !== $name || ( defined( 'WP_CACHE' ) && WP_CACHE );
			if ( $counts && ( is_file( WP_CONTENT_DIR . "/$file" ) || is_file( $this->aside( $file ) ) ) ) {
				$there[ $name ] = is_file( WP_CONTENT_DIR . "/$file" );
			}
		}
		return $there;
	}

	private function aside( string $file ): string {
		return "{$this->memory->place}/kept/$file";
	}

	/** Switch one cache, or all of them; what each was. Throws Failed. */
	public function turn( bool $on, ?string $wanted ): array {
		$was = $this->there();
		if ( null !== $wanted && ! isset( $was[ $wanted ] ) ) {
			throw new Failed( 'not-permitted', "there is no cache $wanted here" );
		}
		$was = null === $wanted ? $was : array( $wanted => $was[ $wanted ] );
		foreach ( $was as $name => $is ) {
			$place = WP_CONTENT_DIR . '/' . self::FILES[ $name ];
			$aside = $this->aside( self::FILES[ $name ] );
			if ( $is !== $on && ! ( $on ? self::moved( $aside, $place ) : self::moved( $place, $aside ) ) ) {
				throw new Failed( 'not-writable', "$place can’t be " . ( $on ? 'put back' : 'moved aside' ) );
			}
		}
		return array( 'was' => (object) $was );
	}

	private static function moved( string $from, string $to ): bool {
		$moved = Folders::copied( $from, $to ) && @unlink( $from ); // the state may lie on another disk
		Folders::compile_anew( $to );
		return $moved;
	}

	/** Take away what the caches keep. */
	public function purge(): array {
		wp_cache_flush();
		$folder = WP_CONTENT_DIR . '/cache';
		foreach ( is_dir( $folder ) ? new \FilesystemIterator( $folder, \FilesystemIterator::SKIP_DOTS ) : array() as $file ) {
			$file->isDir() && ! $file->isLink() ? Folders::clear( $file->getPathname() ) : unlink( $file->getPathname() );
		}
		return array();
	}
}
