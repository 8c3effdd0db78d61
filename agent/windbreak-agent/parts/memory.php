<?php
/**
 * What the agent remembers: keys, epoch, nonces, changes, kept folders, snapshots.
 *
 * It lies outside the web root, and outside what a snapshot covers: no restore undoes it.
 */

namespace Windbreak;

final class Memory {
	const REMEMBERED = 31536000; // seconds for which it knows what became of a change: a year

	/** @var string */
	public $place;
	/** @var float  when the last sign of life was written */
	private $signed = 0.0;

	public function __construct( string $place ) {
		$this->place = $place;
		foreach ( array( '', '/nonces', '/changes', '/kept', '/snapshots', '/staging' ) as $folder ) {
			if ( ! is_dir( $place . $folder ) && ! @mkdir( $place . $folder, 0700, true ) && ! is_dir( $place . $folder ) ) {
				throw new \RuntimeException( self::wanting( $place ) ?: "The agent can’t keep its state in $place: it can’t be made. " . Proof::what_to_do() );
			}
		}
		if ( ! is_file( "$place/.htaccess" ) ) { // for a web server that would serve it all the same
			@file_put_contents( "$place/.htaccess", "Require all denied\nDeny from all\n" );
			@file_put_contents( "$place/index.php", '<?php // nothing to see' );
		}
	}

	/** What is wanting for a folder to be made, or written in; empty where nothing is. */
	public static function wanting( string $place ): string {
		for ( $there = $place; ! is_dir( $there ) && dirname( $there ) !== $there; ) {
			$there = dirname( $there );
		}
		return is_writable( $there ) ? '' : "The agent can’t keep its state in $place: PHP may not write in $there. " . Proof::what_to_do();
	}

	/** Whether a folder is one in which an agent keeps its state. */
	public static function is_one( string $place ): bool {
		return is_file( "$place/facts.json" );
	}

	public function fact( string $name ): ?string {
		$facts = $this->facts();
		return isset( $facts[ $name ] ) ? (string) $facts[ $name ] : null;
	}

	/** Set some facts at once; null takes one away. With ``there``, only those that are there by now. */
	public function set( array $some, bool $there = false ): void {
		$alone = fopen( "$this->place/facts.lock", 'c' );
		flock( $alone, LOCK_EX );
		$old   = $this->facts();
		$facts = array_filter(
			array_merge( $old, $there ? array_intersect_key( $some, $old ) : $some ),
			static function ( $value ) {
				return null !== $value;
			}
		);
		$this->write( 'facts.json', $facts );
		flock( $alone, LOCK_UN );
	}

	private function facts(): array {
		return $this->read( 'facts.json' ) ?? array();
	}

	public function read( string $name ): ?array {
		$text = @file_get_contents( "$this->place/$name" );
		return false === $text ? null : json_decode( $text, true );
	}

	/** Written beside and moved into its place: it is whole, or it is the old one. */
	public function write( string $name, array $value ): void {
		$part = "$this->place/$name." . bin2hex( random_bytes( 4 ) );
		if ( false === file_put_contents( $part, json_encode( $value ) ) || ! rename( $part, "$this->place/$name" ) ) {
			throw new \RuntimeException( "the agent can't write $name" );
		}
		@chmod( "$this->place/$name", 0600 );
	}

	/** Whether a nonce was there already; it is from now on. */
	public function seen( string $nonce ): bool {
		$name = "$this->place/nonces/" . hash( 'sha256', $nonce );
		$file = @fopen( $name, 'x' );
		if ( false === $file ) {
			return true;
		}
		fclose( $file );
		if ( 0 === random_int( 0, 49 ) ) {
			foreach ( array( 'nonces' => 3 * Signing::APART, 'changes' => self::REMEMBERED ) as $folder => $seconds ) {
				foreach ( (array) glob( "$this->place/$folder/*" ) as $old ) {
					if ( filemtime( $old ) < time() - $seconds ) {
						@unlink( $old );
					}
				}
			}
		}
		return false;
	}

	/** A lock of the agent's own, held as long as what is returned; null while another holds it. */
	public function lock() {
		$file = fopen( "$this->place/lock", 'c' );
		return flock( $file, LOCK_EX | LOCK_NB ) ? $file : null;
	}

	// Changes: what became of each, by the id that the service made.

	public function change( string $id ): array {
		$known = $this->read( 'changes/' . self::safe( $id ) . '.json' );
		if ( null === $known ) {
			return array( 'state' => 'unknown', 'result' => (object) array(), 'code' => null, 'detail' => '' );
		}
		if ( 'running' === $known['state'] && null !== ( $free = $this->lock() ) ) {
			// Nobody holds the lock: whoever was at it died.
			flock( $free, LOCK_UN );
			$known = array_merge( $known, array( 'state' => 'failed', 'code' => 'timed-out', 'detail' => 'the agent stopped while it was under way' ) );
			$this->write( 'changes/' . self::safe( $id ) . '.json', $known );
		}
		$known['result'] = (object) ( $known['result'] ?? array() );
		return $known;
	}

	/** A change is under way from now on; false where its id is in use already. */
	public function begin( string $id, string $call ): bool {
		return $this->taken( $id, 'running', $call );
	}

	/** A change that was not begun will never be; one that was stays as it is. Its state. */
	public function void( string $id ): array {
		$this->taken( $id, 'void', 'void' );
		return $this->change( $id );
	}

	/** Write the first state of an id, unless it has one: of two that come at once, one does. */
	private function taken( string $id, string $state, string $phase ): bool {
		$name  = 'changes/' . self::safe( $id ) . '.json';
		$alone = fopen( "$this->place/changes.lock", 'c' );
		flock( $alone, LOCK_EX );
		try {
			if ( null !== $this->read( $name ) ) {
				return false;
			}
			$now = gmdate( 'c' );
			$this->write( $name, compact( 'state', 'phase' ) + array( 'result' => array(), 'code' => null, 'detail' => '', 'since' => $now, 'sign' => $now, 'done' => 0, 'of' => 0 ) );
			return true;
		} finally {
			flock( $alone, LOCK_UN );
		}
	}

	/** A sign of life, at most some times a second. */
	public function sign( string $id, string $phase, int $done, int $of ): void {
		if ( microtime( true ) - $this->signed > 0.3 ) {
			$this->signed = microtime( true );
			$this->end( $id, compact( 'phase', 'done', 'of' ) + array( 'sign' => gmdate( 'c' ) ) );
		}
	}

	/** Write what became of a change, so far. */
	public function end( string $id, array $fields ): void {
		$name = 'changes/' . self::safe( $id ) . '.json';
		$this->write( $name, array_merge( $this->read( $name ) ?? array(), $fields ) );
	}

	public static function safe( string $id ): string {
		if ( ! preg_match( '/^[A-Za-z0-9._-]{1,80}$/', $id ) || '.' === $id[0] ) {
			throw new Failed( 'not-permitted', 'that is no id of a change' );
		}
		return $id;
	}
}

/** A call that could not be done; the code is one of the fixed ones. */
final class Failed extends \Exception {
	/** @var string */
	public $failure;

	public function __construct( string $failure, string $detail ) {
		$this->failure = $failure;
		parent::__construct( $detail );
	}
}
