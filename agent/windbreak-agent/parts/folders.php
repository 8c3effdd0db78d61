<?php
/**
 * Folders moved and taken away. A move is a rename where that can be; onto another disk, and from a
 * disk in layers, what is moved is written whole beside its new place first.
 */

namespace Windbreak;

final class Folders {
	/** Move a folder, or a file, to where no folder is. Throws Failed, and then it lies where it lay. */
	public static function move( string $from, string $to ): void {
		$folder = is_dir( $from ) && ! is_link( $from );
		$apart  = lstat( $from )['dev'] !== stat( dirname( $to ) )['dev'];
		if ( ( $folder || ! $apart ) && @rename( $from, $to ) ) {
			return;
		}
		$why = $apart ? '' : (string) ( error_get_last()['message'] ?? '' );
		if ( ! ( $apart || false !== strpos( $why, 'copy()' ) ) || ! self::of_one_disk( $from ) ) { // it tries to copy what lies on another disk, or in another layer
			throw new Failed( 'not-writable', basename( $from ) . ' can’t be moved to ' . dirname( $to ) );
		}
		$half = dirname( $to ) . '/.windbreak-half-' . basename( $to );
		self::clear( $half );
		if ( ! self::copied( $from, $half ) || ! @rename( $half, $to ) ) {
			self::clear( $half );
			throw new Failed( 'no-room', basename( $from ) . ' can’t be written whole into ' . dirname( $to ) );
		}
		self::clear( $from );
	}

	/** Whether all of a folder lies on one disk: what is mounted in it can be neither moved nor taken away. */
	private static function of_one_disk( string $folder ): bool {
		$disk = @lstat( $folder )['dev'];
		foreach ( is_dir( $folder ) && ! is_link( $folder ) ? self::every( $folder ) : array() as $file ) {
			if ( $file->isDir() && ! $file->isLink() && stat( $file->getPathname() )['dev'] !== $disk ) {
				return false;
			}
		}
		return true;
	}

	/** Copy a folder, or a file, with modes and times; links stay links. */
	public static function copied( string $from, string $to ): bool {
		if ( is_link( $from ) ) {
			return @symlink( (string) readlink( $from ), $to );
		}
		$done = is_dir( $from ) ? @mkdir( $to ) : @copy( $from, $to );
		foreach ( $done && is_dir( $from ) ? new \FilesystemIterator( $from, \FilesystemIterator::SKIP_DOTS ) : array() as $file ) {
			if ( ! self::copied( $file->getPathname(), "$to/" . $file->getFilename() ) ) {
				return false;
			}
		}
		return $done && @chmod( $to, fileperms( $from ) & 07777 ) && @touch( $to, (int) filemtime( $from ) );
	}

	/** Everything in a folder, what holds other things after what it holds, or before it; nothing of what is taken away meanwhile. */
	public static function every( string $folder, int $order = \RecursiveIteratorIterator::SELF_FIRST ): \RecursiveIteratorIterator {
		return new \RecursiveIteratorIterator( new \RecursiveDirectoryIterator( $folder, \FilesystemIterator::SKIP_DOTS ), $order, \RecursiveIteratorIterator::CATCH_GET_CHILD );
	}

	/**
	 * Have PHP compile anew what came into a folder, or a file: many a host has it never look whether
	 * one changed. What is still the very file that lies in ``before`` stays compiled.
	 */
	public static function compile_anew( string $folder, string $before = '' ): void {
		clearstatcache();
		$files = is_dir( $folder ) ? self::every( $folder ) : array( new \SplFileInfo( $folder ) );
		foreach ( function_exists( 'opcache_invalidate' ) ? $files : array() as $file ) {
			$path = $file->getPathname();
			$now  = @stat( $path );
			$was  = '' === $before ? false : @stat( $before . substr( $path, strlen( $folder ) ) );
			if ( ! $was || ! $now || $was['ino'] !== $now['ino'] || $was['dev'] !== $now['dev'] ) {
				@opcache_invalidate( $path, true );
			}
		}
	}

	/** Take a folder away with all that is in it, folders that nobody may write in too; or a file. */
	public static function clear( string $folder ): void {
		if ( is_link( $folder ) || is_file( $folder ) ) {
			@unlink( $folder );
		} elseif ( is_dir( $folder ) ) {
			foreach ( self::every( $folder, \RecursiveIteratorIterator::CHILD_FIRST ) as $file ) {
				$path = $file->getPathname();
				$away = $file->isDir() && ! $file->isLink() ? 'rmdir' : 'unlink';
				@$away( $path ) || @chmod( dirname( $path ), 0700 ) && $away( $path );
			}
			rmdir( $folder );
		}
	}
}
