<?php
/**
 * What is written on the site while a run is at work: by table and count, as it goes through the
 * system, noted once a request. What the agent does itself is none of it, nor what the service's
 * own looks bring about.
 */

namespace Windbreak;

final class Writes {
	const LOG     = 'writes.log';
	const A_WRITE = '/^\s*(?:INSERT|REPLACE|UPDATE|DELETE|TRUNCATE)(?:\s+(?:IGNORE|LOW_PRIORITY|HIGH_PRIORITY|DELAYED|QUICK|INTO|FROM|TABLE))*\s+`?([\w$]+)/i';
	// What writes by itself, whoever looks at a page: sessions, drafts that nobody keeps, locks.
	const BY_ITSELF = '/session_tokens|\'auto-draft\'|_edit_lock|_transient_|_site_transient_/';

	/** @var array<string, int>  rows, or more, that this request wrote, by table */
	private static $counts = array();

	/** Count what this request writes, and note it at its end. */
	public static function watch( string $place ): void {
		add_filter( 'query', array( self::class, 'counted' ) );
		register_shutdown_function( array( self::class, 'note' ), $place );
	}

	/** A statement on its way to the database. */
	public static function counted( $query ) {
		$text = (string) $query;
		if ( '' !== $text && 'S' !== $text[0] && preg_match( self::A_WRITE, $text, $match ) && ! preg_match( self::BY_ITSELF, $text ) ) {
			self::$counts[ $match[1] ] = ( self::$counts[ $match[1] ] ?? 0 ) + 1;
		}
		return $query;
	}

	/** Note what this request wrote, where a run is at work by now. */
	public static function note( string $place ): void {
		global $wpdb;
		$by_a_person = 'POST' === ( $_SERVER['REQUEST_METHOD'] ?? '' ) && function_exists( 'is_user_logged_in' ) && is_user_logged_in();
		if ( ! $by_a_person ) { // plugins keep their version and their schedule there
			unset( self::$counts[ $wpdb->options ?? '' ], self::$counts[ $wpdb->sitemeta ?? '' ] );
		}
		if ( ! self::$counts ) {
			return;
		}
		$facts = (array) json_decode( (string) @file_get_contents( "$place/facts.json" ), true );
		if ( isset( $facts['at-work'] ) ) {
			@file_put_contents( "$place/" . self::LOG, json_encode( self::$counts ) . "\n", FILE_APPEND | LOCK_EX );
		}
		self::$counts = array();
	}

	/** Begin anew: what was noted is of an earlier run, or was lost by a restore and written down. */
	public static function begin( Memory $memory ): void {
		@unlink( "$memory->place/" . self::LOG );
	}

	/** What was written since the run that is at work began, by table; nothing where none is. */
	public static function since( Memory $memory ): array {
		$sums = array();
		if ( null === $memory->fact( 'at-work' ) ) {
			return $sums;
		}
		foreach ( (array) @file( "$memory->place/" . self::LOG ) as $line ) {
			foreach ( (array) json_decode( (string) $line, true ) as $table => $count ) {
				$sums[ $table ] = ( $sums[ $table ] ?? 0 ) + (int) $count;
			}
		}
		ksort( $sums );
		return $sums;
	}
}
