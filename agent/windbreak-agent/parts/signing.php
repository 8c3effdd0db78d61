<?php
/**
 * Requests and answers signed with Ed25519: HTTP Message Signatures (RFC 9421), content digests
 * (RFC 9530). PHP's own sodium; no library.
 */

namespace Windbreak;

final class Refused extends \Exception {}

final class Signing {
	const LABEL = 'wb';
	const TAG = 'windbreak-agent';
	const APART = 300; // seconds between two clocks from which signatures are not taken
	const COVERED = array( '"@method"', '"@target-uri"', '"content-digest"', '"windbreak-for"', '"windbreak-service"', '"windbreak-epoch"' );

	/** A new key: its two halves as text. */
	public static function new_key(): array {
		$pair = sodium_crypto_sign_keypair();
		return array(
			'secret' => self::text( sodium_crypto_sign_secretkey( $pair ) ),
			'public' => self::text( sodium_crypto_sign_publickey( $pair ) ),
		);
	}

	public static function text( string $bytes ): string {
		return strtr( base64_encode( $bytes ), '+/', '-_' );
	}

	public static function bytes( string $text ): string {
		$bytes = base64_decode( strtr( $text, '-_', '+/' ), true );
		if ( false === $bytes ) {
			throw new Refused( 'that is not base64' );
		}
		return $bytes;
	}

	public static function thumbprint( string $public ): string {
		return substr( hash( 'sha256', self::bytes( $public ) ), 0, 16 );
	}

	private static function digest( string $body ): string {
		return 'sha-256=:' . base64_encode( hash( 'sha256', $body, true ) ) . ':';
	}

	/**
	 * The parameters of a request's signature, which a public key holds for. Throws Refused.
	 *
	 * @param array  $headers With their names low.
	 * @param string $public  The service's key, as text.
	 */
	public static function verified( string $method, string $url, array $headers, string $body, string $public ): array {
		list( $list, $inside ) = self::input( $headers['signature-input'] ?? '' );
		foreach ( self::COVERED as $component ) {
			if ( ! in_array( $component, $list, true ) ) {
				throw new Refused( "the signature does not cover $component" );
			}
		}
		if ( ! hash_equals( self::digest( $body ), (string) ( $headers['content-digest'] ?? '' ) ) ) {
			throw new Refused( 'the content is not what was signed' );
		}
		$lines = array();
		foreach ( $list as $component ) {
			$name = trim( $component, '"' );
			switch ( $name ) {
				case '@method':
					$value = $method;
					break;
				case '@target-uri':
					$value = $url;
					break;
				default:
					if ( ! isset( $headers[ $name ] ) ) {
						throw new Refused( "the header $name is missing" );
					}
					$value = trim( $headers[ $name ] );
			}
			$lines[] = "$component: $value";
		}
		$lines[] = "\"@signature-params\": $inside";
		$given   = self::signature( $headers['signature'] ?? '' );
		$key     = self::bytes( $public );
		$length  = SODIUM_CRYPTO_SIGN_PUBLICKEYBYTES === strlen( $key ) && SODIUM_CRYPTO_SIGN_BYTES === strlen( $given );
		if ( ! $length || ! sodium_crypto_sign_verify_detached( $given, implode( "\n", $lines ), $key ) ) {
			throw new Refused( 'the signature does not hold' );
		}
		$params = self::params( $inside );
		if ( self::TAG !== ( $params['tag'] ?? '' ) ) {
			throw new Refused( 'it was signed for another purpose' );
		}
		if ( abs( (int) ( $params['created'] ?? 0 ) - time() ) > self::APART ) {
			throw new Refused( 'the signature is too old or too new' );
		}
		if ( '' === ( $params['nonce'] ?? '' ) ) {
			throw new Refused( 'the signature has no nonce' );
		}
		return $params;
	}

	/** The headers that sign an answer, bound to the signature of its request. */
	public static function answer( int $status, string $body, array $request, string $secret, string $public ): array {
		$asked  = base64_encode( self::signature( $request['signature'] ?? '' ) );
		$digest = self::digest( $body );
		$bound  = '"signature";req;key="' . self::LABEL . '"';
		$inside = sprintf(
			'("@status" %s "content-digest");created=%d;keyid="%s";alg="ed25519";tag="%s"',
			$bound,
			time(),
			substr( $public, 0, 12 ),
			self::TAG
		);
		$base   = "\"@status\": $status\n$bound: :$asked:\n\"content-digest\": $digest\n\"@signature-params\": $inside";
		$made   = base64_encode( sodium_crypto_sign_detached( $base, self::bytes( $secret ) ) );
		return array(
			'Content-Digest'  => $digest,
			'Signature-Input' => self::LABEL . "=$inside",
			'Signature'       => self::LABEL . "=:$made:",
		);
	}

	/** The components that a signature covers, and all that stands behind its label. */
	private static function input( string $text ): array {
		if ( ! preg_match( '/^' . self::LABEL . '=(\(([^()]*)\).*)$/', $text, $found ) ) {
			throw new Refused( 'there is no signature' );
		}
		return array( preg_split( '/ +/', trim( $found[2] ) ), $found[1] );
	}

	private static function signature( string $text ): string {
		if ( ! preg_match( '/^' . self::LABEL . '=:([A-Za-z0-9+\/=]+):$/', $text, $found ) ) {
			throw new Refused( 'there is no signature' );
		}
		return (string) base64_decode( $found[1], true );
	}

	private static function params( string $inside ): array {
		$params = array();
		$rest   = substr( $inside, strpos( $inside, ')' ) + 1 );
		preg_match_all( '/;([a-z]+)=(?:"([^"]*)"|(-?\d+))/', $rest, $found, PREG_SET_ORDER );
		foreach ( $found as $one ) {
			$params[ $one[1] ] = $one[3] ?? $one[2];
		}
		return $params;
	}
}
