<?php
/**
 * The agent: it takes signed calls of the one service whose line its owner pasted, newest driver
 * only, at its own address only; and signs what it answers.
 */

namespace Windbreak;

final class Agent {
	const VERSION = '1.8';
	const CAN = array( 'hello', 'inventory', 'health', 'look', 'change', 'void', 'held', 'own-files', 'fetch', 'rotate', 'goodbye', 'pass' );

	const MOST_ASKED   = 2097152;  // bytes of a call that asks, or tells to do
	const MOST_BROUGHT = 16777216; // bytes of one that brings a package or a part of a snapshot

	/** @var Memory */
	private $memory;
	/** @var array  those of the request that is answered */
	private $headers = array();
	/** @var bool  whether it was answered */
	private $told = false;
	/** @var bool  whether the signature of the request holds */
	private $verified = false;
	/** @var bool  whether the call was begun to be carried out */
	private $begun = false;

	public function __construct( Memory $memory ) {
		$this->memory = $memory;
		if ( null === $memory->fact( 'id' ) ) {
			$this->renew();
		}
	}

	/** What is wanting of some extensions of PHP, in words: those that are not there, or that a host has forbidden. */
	public static function wanting( string ...$names ): array {
		$there = array( 'sodium' => function_exists( 'sodium_crypto_sign_detached' ), 'zip' => class_exists( 'ZipArchive' ) );
		$why   = array( 'sodium' => 'without it the agent can’t sign, and answers nobody', 'zip' => 'without it no package can be opened and no snapshot kept; all else works' );
		$lacks = array();
		foreach ( $names as $name ) {
			if ( ! $there[ $name ] ) {
				$lacks[] = "PHP’s extension $name is missing: {$why[ $name ]}.";
			}
		}
		return $lacks;
	}

	/** The calls that can be answered here. */
	private function can(): array {
		$every = array_merge( self::CAN, Acts::CAN );
		if ( '' !== Proof::wanting( $this->memory ) && ! $this->is_at_work() ) {
			return self::CAN;
		}
		if ( self::sealed() ) {
			$every = array_diff( $every, Acts::BRING_CODE );
		}
		return array_values( self::wanting( 'zip' ) ? array_diff( $every, Acts::PACKED ) : $every );
	}

	/** Whether a run is under way, or has left something to set back: that is brought to its end, whatever was noticed meanwhile. */
	private function is_at_work(): bool {
		return null !== $this->memory->fact( 'at-work' ) || Held::still( $this->memory );
	}

	/** Whether the site's owner lets nobody change its code. */
	public static function sealed(): bool {
		return defined( 'DISALLOW_FILE_MODS' ) && DISALLOW_FILE_MODS;
	}

	/** What is wanting for the agent to do its work, in sentences. */
	public function lacks(): array {
		$sealed = self::sealed() ? 'wp-config.php says that no code is changed here (DISALLOW_FILE_MODS): the agent reads and keeps snapshots, and updates nothing.' : '';
		return array_values( array_filter( array_merge( self::wanting( 'zip' ), array( Proof::wanting( $this->memory ), $sealed ) ) ) );
	}

	// What the owner does.

	/** Take the one line of the console. Throws Refused. */
	public function paste( string $line ): void {
		$bare = preg_replace( '/[^\x21-\x7E]/', '', $line );
		list( $head, $rest ) = array_pad( explode( '.', $bare, 2 ), 2, '' );
		$told = json_decode( (string) base64_decode( strtr( $rest, '-_', '+/' ) ), true );
		if ( 'windbreak-link' !== $head || ! is_array( $told ) || empty( $told['code'] ) || empty( $told['key'] ) ) {
			throw new Refused( 'this is not a line of the console' );
		}
		if ( SODIUM_CRYPTO_SIGN_PUBLICKEYBYTES !== strlen( Signing::bytes( $told['key'] ) ) ) {
			throw new Refused( 'the line holds no key' );
		}
		$this->unlink();
		$this->memory->set( array( 'service' => $told['key'], 'code' => $told['code'] ) );
	}

	/** End the link. */
	public function unlink(): void {
		$this->memory->set( array_fill_keys( array( 'service', 'service-next', 'code', 'site', 'address', 'epoch', 'instance', 'key-before', 'public-before' ), null ) );
	}

	/** Give this site an agent's id and key of its own; a copy of a site needs that. */
	public function renew(): void {
		$this->unlink();
		$key = Signing::new_key();
		$this->memory->set( array( 'id' => 'agent-' . bin2hex( random_bytes( 8 ) ), 'key' => $key['secret'], 'public' => $key['public'] ) );
	}

	/** Whether this site holds what another wrote, and so sends no mail and does no scheduled work. */
	public function quiet(): bool {
		return null !== $this->memory->fact( 'quiet' );
	}

	/** Let this site do again what every site does. */
	public function speak(): void {
		$this->memory->set( array( 'quiet' => null ) );
	}

	/** Show visitors the pages again. */
	public function take_page_away(): void {
		Page::put( $this->memory, false );
	}

	public function linked(): bool {
		return null !== $this->memory->fact( 'service' );
	}

	// What the service asks.

	/** Answer a signed call and end the request; where a call needs more of the system, once that is loaded. */
	public function serve( string $call ): void {
		$this->headers = self::headers();
		$most          = in_array( $call, Acts::LARGE, true ) ? self::MOST_BROUGHT : self::MOST_ASKED;
		$body          = $most < (int) ( $this->headers['content-length'] ?? 0 ) ? null : (string) file_get_contents( 'php://input', false, null, 0, $most + 1 );
		if ( null === $body || strlen( $body ) > $most ) {
			$this->tell( 413, array( 'code' => 'not-permitted', 'detail' => "more than $most bytes are not taken" ) );
			exit;
		}
		$url = self::url();
		try {
			$this->verified( $url, $this->headers, $body );
		} catch ( Refused $error ) {
			$this->tell( 401, array( 'code' => 'not-permitted', 'detail' => $error->getMessage() ) );
			exit;
		}
		$this->verified = true;
		$args           = (array) json_decode( $body, true );
		$needs = Acts::needs( $call, $args );
		unset( $body );
		$work = function () use ( $call, $url, $args ) {
			$this->begun = true;
			list( $status, $told ) = $this->judged( $call, $url, $args );
			$this->tell( $status, $told );
			exit;
		};
		if ( '' === $needs ) {
			$work();
		}
		$this->outlive( $args );
		if ( 'bare' === $needs ) { // the system, without anything that may be broken
			add_filter( 'option_active_plugins', '__return_empty_array', PHP_INT_MAX );
			foreach ( array( 'template', 'stylesheet' ) as $name ) {
				add_filter(
					"pre_option_$name",
					static function () {
						return 'windbreak-none';
					}
				);
			}
		}
		add_action( 'wp_loaded', $work, PHP_INT_MAX );
	}

	/** Answer where something of the system ends this request before the call was begun, as a fatal plugin does: then nothing of it was done. */
	private function outlive( array $args ): void {
		ob_start();
		register_shutdown_function(
			function () use ( $args ) {
				if ( $this->begun ) {
					return;
				}
				$error = strtok( (string) ( error_get_last()['message'] ?? '' ), "\n" ) ?: 'something ends each request to it';
				$why   = 'the site can’t be loaded, and nothing was begun: ' . substr( str_replace( ABSPATH, '', $error ), 0, 300 );
				if ( isset( $args['change'] ) ) {
					$this->memory->end( Memory::safe( (string) $args['change'] ), array( 'state' => 'failed', 'code' => 'breaks-site', 'detail' => $why ) );
				}
				while ( ob_get_level() ) {
					ob_end_clean();
				}
				$this->tell( 409, array( 'code' => 'breaks-site', 'detail' => $why ) );
			}
		);
	}

	/** Say that a change is under way, and let whoever asked go; it is asked about later. */
	public function under_way( array $state ): void {
		$this->tell( 202, $state, true );
	}

	private function tell( int $status, $told, bool $goes_on = false ): void {
		if ( $this->told ) {
			return; // it was said to be under way
		}
		$this->told = true;
		$text       = (string) json_encode( $told, JSON_UNESCAPED_SLASHES | JSON_UNESCAPED_UNICODE | JSON_PARTIAL_OUTPUT_ON_ERROR );
		http_response_code( $status );
		header( 'Content-Type: application/json' );
		header( 'Cache-Control: no-store' );
		try {
			list( $secret, $public ) = $this->key_expected( (string) ( $this->headers['windbreak-expects'] ?? '' ) );
			foreach ( Signing::answer( $status, $text, $this->headers, $secret, $public ) as $name => $value ) {
				header( "$name: $value" );
			}
		} catch ( Refused $nobody ) {
			// A request without a signature is answered, and nothing is signed for it.
			unset( $nobody );
		}
		if ( $goes_on ) {
			header( 'Connection: close' );
			header( 'Content-Length: ' . strlen( $text ) );
			while ( ob_get_level() ) {
				ob_end_clean();
			}
		}
		echo $text; // phpcs:ignore
		if ( $goes_on ) {
			function_exists( 'fastcgi_finish_request' ) ? fastcgi_finish_request() : flush();
		}
	}

	private function key_expected( string $expected ): array {
		$own    = array( (string) $this->memory->fact( 'key' ), (string) $this->memory->fact( 'public' ) );
		$before = $this->memory->fact( 'key-before' );
		if ( null === $before ) {
			return $own;
		}
		if ( Signing::thumbprint( $own[1] ) === $expected ) {
			$this->verified && $this->memory->set( array( 'key-before' => null, 'public-before' => null ) ); // a stranger may name it too
			return $own;
		}
		return array( $before, (string) $this->memory->fact( 'public-before' ) );
	}

	private function judged( string $call, string $url, array $args ): array {
		try {
			$this->obey( $url, $this->headers );
			Page::put_off( $this->memory );
			foreach ( array( Packages::class, Snapshots::class, Core::class ) as $left ) {
				$left::mend( $this->memory ); // before anything is read: something may be half in its place
			}
			return array( 200, (object) $this->carried_out( $call, $args ) );
		} catch ( Failed $error ) {
			return array( 409, array( 'code' => $error->failure, 'detail' => $error->getMessage() ) );
		} catch ( \Throwable $error ) {
			return array( 409, array( 'code' => 'unknown', 'detail' => get_class( $error ) . ': ' . $error->getMessage() ) );
		}
	}

	/** Throw Refused where no key of the linked service stands under a call, or it was seen before. */
	private function verified( string $url, array $headers, string $body ): void {
		$service = $this->memory->fact( 'service' );
		if ( null === $service ) {
			throw new Refused( 'no key of a service is in place here' );
		}
		try {
			$params = Signing::verified( 'POST', $url, $headers, $body, $service );
		} catch ( Refused $error ) {
			$coming = $this->memory->fact( 'service-next' );
			if ( null === $coming ) {
				throw $error;
			}
			$params = Signing::verified( 'POST', $url, $headers, $body, $coming );
			$this->memory->set( array( 'service' => $coming, 'service-next' => null ) );
		}
		if ( $this->memory->seen( $params['nonce'] ) ) {
			throw new Refused( 'this request was seen before' );
		}
	}

	/** Throw Failed where a call is for another agent, at another place, or of an older driver. */
	private function obey( string $url, array $headers ): void {
		$wanted = (string) $headers['windbreak-for'];
		if ( $wanted !== $this->memory->fact( 'id' ) && ! ( '-' === $wanted && null !== $this->memory->fact( 'code' ) ) ) {
			throw new Failed( 'not-permitted', 'this call is for another agent' );
		}
		$bound = $this->memory->fact( 'address' );
		if ( null !== $bound && self::origin( $bound ) !== self::origin( $url ) ) {
			throw new Failed( 'not-permitted', "this agent is bound to $bound; a copy of its site needs an id of its own" );
		}
		$epoch    = (int) $headers['windbreak-epoch'];
		$instance = (string) $headers['windbreak-service'];
		$newest   = (int) $this->memory->fact( 'epoch' );
		$known    = $this->memory->fact( 'instance' );
		if ( $epoch < $newest || ( $epoch === $newest && null !== $known && $known !== $instance ) ) {
			throw new Failed( 'superseded', "it obeys epoch $newest; this call is of $epoch" );
		}
		if ( $epoch > $newest || null === $known ) {
			$this->memory->set( array( 'epoch' => (string) $epoch, 'instance' => $instance ) );
		}
	}

	private function carried_out( string $call, array $args ): array {
		switch ( $call ) {
			case 'hello':
				return $this->hello( $args );
			case 'inventory':
				return Site::inventory( $this->memory, self::VERSION, $this->kept_mb() ) + array( 'agent_can' => $this->can(), 'agent_lacks' => $this->lacks() );
			case 'health':
				Proof::renew( $this->memory );
				return array( 'checks' => Health::ask( $this->memory ), 'registrations' => Offers::registrations( $this->memory ) );
			case 'look':
				return $this->look( $args );
			case 'own-files':
				return array( 'files' => Site::own_files( (string) $args['product'], (array) $args['pristine'] ) );
			case 'change':
				return $this->memory->change( (string) $args['change'] );
			case 'held':
				return array( 'held' => Held::still( $this->memory ) );
			case 'void':
				return $this->memory->void( (string) $args['change'] );
			case 'fetch':
				return ( new Snapshots( $this->memory, 'strval' ) )->part( $args );
			case 'rotate':
				return $this->rotate( $args );
			case 'goodbye':
				$this->unlink();
				return array();
		}
		if ( in_array( $call, Acts::CAN, true ) && in_array( $call, $this->can(), true ) ) {
			return ( new Acts( $this->memory, array( $this, 'under_way' ) ) )->once( $call, $args );
		}
		throw new Failed( 'not-permitted', in_array( $call, Acts::CAN, true ) ? implode( ' ', $this->lacks() ) : "this agent has no call '$call'" );
	}

	/** What is there, with a looking pass, and where that shows content: as its blocks, or in the editor. */
	private function look( array $args ): array {
		$pass = Passing::give( $this->memory );
		$told = Site::look( Writes::since( $this->memory ) ) + array( 'pass' => $pass, 'editor' => '/?windbreak-blocks', 'opens' => Passing::editor() );
		return isset( $args['since'] ) ? $told + array( 'came' => Site::came( (string) $args['since'] ) ) : $told;
	}

	private function hello( array $args ): array {
		$code = $this->memory->fact( 'code' );
		if ( null === $code ) {
			throw new Failed( 'not-permitted', 'the code was used already; paste a new line' );
		}
		$id     = (string) $this->memory->fact( 'id' );
		$public = (string) $this->memory->fact( 'public' );
		$this->memory->set( array( 'site' => (string) $args['site'], 'address' => (string) $args['address'], 'code' => null ) );
		return array(
			'agent_id'      => $id,
			'public_key'    => $public,
			'proof'         => hash_hmac( 'sha256', "$id.$public.{$args['nonce']}", $code ),
			'agent_version' => self::VERSION,
			'can'           => $this->can(),
		);
	}

	/** Take the key that the service will sign with, and make a new one: the old are good until the new were used. */
	private function rotate( array $args ): array {
		Signing::bytes( (string) $args['key'] );
		$this->memory->set( array( 'service-next' => (string) $args['key'] ) );
		if ( null === $this->memory->fact( 'key-before' ) ) {
			$key = Signing::new_key();
			$this->memory->set(
				array(
					'key-before'    => $this->memory->fact( 'key' ),
					'public-before' => $this->memory->fact( 'public' ),
					'key'           => $key['secret'],
					'public'        => $key['public'],
				)
			);
		}
		return array( 'public_key' => $this->memory->fact( 'public' ) );
	}

	private function kept_mb(): int {
		return (int) ( ( Snapshots::bytes( "{$this->memory->place}/kept" ) + Snapshots::bytes( "{$this->memory->place}/snapshots" ) ) / 1048576 );
	}

	private static function headers(): array {
		$found = array();
		foreach ( $_SERVER as $name => $value ) {
			if ( 0 === strpos( $name, 'HTTP_' ) ) {
				$found[ strtolower( str_replace( '_', '-', substr( $name, 5 ) ) ) ] = (string) $value;
			}
		}
		foreach ( array( 'CONTENT_TYPE' => 'content-type', 'CONTENT_LENGTH' => 'content-length' ) as $name => $header ) {
			if ( isset( $_SERVER[ $name ] ) ) {
				$found[ $header ] = (string) $_SERVER[ $name ];
			}
		}
		return $found;
	}

	/** The whole address that was called, as whoever called it wrote it. */
	private static function url(): string {
		$proto  = (string) ( $_SERVER['HTTP_X_FORWARDED_PROTO'] ?? '' );
		$secure = 'https' === $proto || ( ! empty( $_SERVER['HTTPS'] ) && 'off' !== $_SERVER['HTTPS'] );
		return ( $secure ? 'https' : 'http' ) . '://' . $_SERVER['HTTP_HOST'] . $_SERVER['REQUEST_URI'];
	}

	private static function origin( string $url ): string {
		$parts = (array) parse_url( $url );
		return ( $parts['scheme'] ?? '' ) . '://' . ( $parts['host'] ?? '' ) . ':' . ( $parts['port'] ?? '' );
	}
}
