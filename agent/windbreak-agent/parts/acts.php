<?php
/**
 * What the agent does to the site: each change once, by the id that the service made, under a lock
 * of its own. What may take long is told to be under way at once, and asked about later.
 */

namespace Windbreak;

final class Acts {
	const CAN  = array( 'snapshot', 'restore', 'bring', 'drop', 'hold', 'apply', 'put-back', 'switch', 'remove', 'maintenance', 'updates', 'caches', 'purge', 'migrate', 'register', 'regenerate' );
	const PACKED = array( 'snapshot', 'restore', 'bring', 'fetch', 'hold', 'apply' ); // need PHP’s zip
	const LARGE      = array( 'bring', 'hold', 'apply' ); // bring a package, or a part of a snapshot
	const BRING_CODE = array( 'bring', 'hold', 'apply', 'remove' );
	const MOVES = array( 'apply', 'put-back', 'remove' );
	const LONG = array( 'snapshot', 'restore', 'migrate' );
	const PORTIONS = 100000; // of a migration, at the most
	const PATIENCE = 120;    // seconds without anything due that a migration waits for its next portion

	/** @var Memory */
	private $memory;
	/** @var callable(array): void  tells whoever asked that a change is under way */
	private $under_way;
	/** @var string */
	private $change = '';

	public function __construct( Memory $memory, callable $under_way ) {
		$this->memory    = $memory;
		$this->under_way = $under_way;
	}

	/** What a call needs of the system: its functions (`bare`), its plugins too (`whole`), or nothing. */
	public static function needs( string $call, array $args ): string {
		$product = (string) ( $args['product'] ?? '' );
		if ( 'apply' === $call && 0 === strpos( $product, 'core/' ) ) {
			return 'bare';
		}
		return in_array( $call, array( 'migrate', 'register', 'regenerate', 'health' ), true ) ? 'whole' : '';
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
		if ( 'void' === $became['state'] ) {
			throw new Failed( 'not-permitted', 'this change was made void; it will never be' );
		}
		if ( 'running' === $became['state'] ) {
			( $this->under_way )( $became );
			return array();
		}
		$lock = $this->memory->lock();
		if ( null === $lock ) {
			throw new Failed( 'busy', 'another change is under way' );
		}
		if ( ! $this->memory->begin( $id, $call ) ) { // made void, or begun, since it was looked up
			flock( $lock, LOCK_UN );
			return $this->once( $call, $args );
		}
		set_time_limit( 0 );
		foreach ( (array) glob( "{$this->memory->place}/staging/*" ) as $left ) { // of a change that died: nobody else is at work
			0 === strpos( basename( $left ), 'held-' ) || Folders::clear( $left );
		}
		$this->change = $id;
		if ( in_array( $call, self::LONG, true ) || 'bare' === self::needs( $call, $args ) ) {
			( $this->under_way )( $this->memory->read( "changes/$id.json" ) );
		}
		try {
			$result = $this->act( $call, $id, $args );
			if ( in_array( $call, self::MOVES, true ) ) {
				Site::forget_offers();
			}
			$this->note_work( $call, $id, $args );
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
		}
	}

	/** Note that a run is at work here, by its snapshot, until it empties the caches or lets go of that snapshot. */
	private function note_work( string $call, string $id, array $args ): void {
		$dropped = 'drop' === $call && in_array( $this->memory->fact( 'at-work' ), (array) ( $args['snapshots'] ?? array() ), true );
		if ( 'purge' === $call || $dropped ) {
			$this->memory->set( array( 'at-work' => null ) );
		}
	}

	private function act( string $call, string $id, array $args ): array {
		$packages  = new Packages( $this->memory );
		$snapshots = new Snapshots( $this->memory, array( $this, 'sign' ) );
		switch ( $call ) {
			case 'snapshot':
				Writes::begin( $this->memory );
				$this->memory->set( array( 'at-work' => $id ) ); // before the instant that it shows
				return $snapshots->make( $id );
			case 'restore':
				return $snapshots->restore( $id, $args );
			case 'bring':
				return $snapshots->bring( $args );
			case 'drop':
				return $snapshots->drop( (array) ( $args['snapshots'] ?? array() ), (array) ( $args['kept'] ?? array() ) );
			case 'hold':
				return $packages->hold( $args );
			case 'apply':
				return $packages->apply( $id, $args );
			case 'put-back':
				return $packages->put_back( $id, (string) $args['product'], (string) $args['of'], ! empty( $args['added'] ) );
			case 'remove':
				return $packages->remove( $id, (string) $args['product'] );
			case 'switch':
				return $this->switched( (string) $args['product'], (bool) $args['on'] );
			case 'maintenance':
				$was = Page::is_up( $this->memory );
				Held::note( $this->memory, 'page', '', $was, (bool) $args['on'], $id );
				Page::put( $this->memory, (bool) $args['on'] );
				return array( 'was' => $was );
			case 'updates':
				$was = Site::updates_itself( $this->memory );
				Held::note( $this->memory, 'updates', '', $was, (bool) $args['on'], $id );
				$this->memory->set( array( 'updates-paused' => $args['on'] ? null : '1' ) );
				return array( 'was' => $was );
			case 'caches':
				$name = isset( $args['name'] ) ? (string) $args['name'] : null;
				foreach ( ( new Caches( $this->memory ) )->there() as $cache => $is ) {
					null !== $name && $name !== $cache || Held::note( $this->memory, 'cache', $cache, $is, (bool) $args['on'], $id );
				}
				return ( new Caches( $this->memory ) )->turn( (bool) $args['on'], $name );
			case 'purge':
				return ( new Caches( $this->memory ) )->purge();
			case 'migrate':
				return $this->migrate( (string) $args['product'] );
			case 'register':
				return Offers::register( $this->memory, (string) $args['product'], (string) $args['code'] );
			case 'regenerate':
				return Offers::regenerate( (string) $args['product'] );
		}
		throw new Failed( 'not-permitted', "this agent has no call '$call'" );
	}

	/** A sign of life of what is under way. */
	public function sign( string $phase, int $done, int $of ): void {
		$this->memory->sign( $this->change, $phase, $done, $of );
	}

	private function switched( string $product, bool $on ): array {
		$file = Site::main_file( $product );
		if ( null === $file ) {
			throw new Failed( 'not-permitted', "$product is no plugin that is there" );
		}
		if ( in_array( $file, Site::on_everywhere(), true ) || isset( $this->everywhere()[ $file ] ) ) {
			return $this->switched_everywhere( $product, $file, $on );
		}
		$active = array_values( (array) get_option( 'active_plugins', array() ) );
		$was    = in_array( $file, $active, true );
		Held::note( $this->memory, 'plugin', $product, $was, $on, $this->change );
		if ( $was !== $on ) {
			$active = $on ? array_merge( $active, array( $file ) ) : array_values( array_diff( $active, array( $file ) ) );
			sort( $active );
			update_option( 'active_plugins', $active );
		}
		return array( 'was' => $was );
	}

	/** What a run has switched off for a whole network, and since when it was on. */
	private function everywhere(): array {
		return $this->memory->read( 'everywhere.json' ) ?? array();
	}

	/** Switch a plugin for a whole network: on as it was, for everybody. */
	private function switched_everywhere( string $product, string $file, bool $on ): array {
		$active = (array) get_site_option( 'active_sitewide_plugins', array() );
		$off    = $this->everywhere();
		$was    = isset( $active[ $file ] );
		Held::note( $this->memory, 'plugin', $product, $was, $on, $this->change );
		if ( $was && ! $on ) {
			$this->memory->write( 'everywhere.json', array( $file => $active[ $file ] ) + $off );
			unset( $active[ $file ] );
		} elseif ( ! $was && $on ) {
			$active[ $file ] = $off[ $file ];
			$this->memory->write( 'everywhere.json', array_diff_key( $off, array( $file => 0 ) ) );
		}
		update_site_option( 'active_sitewide_plugins', $active );
		return array( 'was' => $was );
	}

	/**
	 * Carry out what a plugin has scheduled under its own name since it was updated, portion by
	 * portion, until nothing of it is left: that is how plugins move what they keep into a new form.
	 */
	private function migrate( string $product ): array {
		$done = 0;
		$idle = time();
		while ( array() !== ( $left = self::scheduled( $product ) ) ) {
			list( $at, $hook, $args ) = $left[0];
			if ( $at > time() ) {
				if ( $at > time() + self::PATIENCE || time() - $idle > self::PATIENCE ) {
					throw new Failed( 'timed-out', "its next portion, $hook, is due " . gmdate( 'c', $at ) );
				}
				sleep( 1 );
				continue;
			}
			if ( ++$done > self::PORTIONS ) {
				throw new Failed( 'timed-out', "it comes to no end: $hook was done $done times" );
			}
			wp_unschedule_event( $at, $hook, $args );
			do_action_ref_array( $hook, $args );
			$idle = time();
			$this->sign( $hook, $done, 0 );
		}
		return array( 'done' => $done, 'of' => $done );
	}

	/** What a plugin has scheduled once, under its own name, soonest first: when, what, with what. */
	private static function scheduled( string $product ): array {
		$name  = str_replace( '-', '[-_]?', explode( '/', $product, 2 )[1] ?? '' ); // letters, digits, hyphens
		if ( ! preg_match( '/^[a-z0-9]/', $name ) || null === Site::folder( $product ) ) {
			throw new Failed( 'not-permitted', "$product is not there" );
		}
		$found = array();
		wp_cache_delete( 'alloptions', 'options' );
		foreach ( (array) get_option( 'cron', array() ) as $at => $hooks ) {
			foreach ( is_array( $hooks ) ? $hooks : array() as $hook => $events ) {
				foreach ( $events as $event ) {
					if ( ! $event['schedule'] && preg_match( "/^$name(?:[-_\\/]|$)/i", (string) $hook ) ) {
						$found[] = array( (int) $at, (string) $hook, (array) $event['args'] );
					}
				}
			}
		}
		return $found;
	}
}
