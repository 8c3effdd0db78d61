<?php
/**
 * The addresses of one site made those of another, in every text of some tables; also inside of
 * values that the system keeps as one text with the length of each part in it.
 */

namespace Windbreak;

final class Addresses {
	const ROWS = 100;

	/** @var string */
	private $pattern;
	/** @var string */
	private $like;
	/** @var string */
	private $to;

	public function __construct( string $from, string $to ) {
		$bare          = preg_replace( '#^https?://#', '', rtrim( $from, '/' ) );
		$slash         = '(?:\\\\?/)';
		$this->like    = explode( '/', $bare )[0];
		$this->pattern = '#(https?:)?(\\\\?/\\\\?/)' . str_replace( '/', $slash, preg_quote( $bare, '#' ) ) . '(?![\w:@-]|\.\w)#';
		$this->to      = rtrim( $to, '/' );
	}

	/** Change every row of some tables. */
	public function change( array $tables, callable $sign ): void {
		foreach ( $tables as $n => $table ) {
			$sign( 'addresses', $n, count( $tables ) );
			$this->change_table( $table );
		}
	}

	private function change_table( string $table ): void {
		$texts = array();
		$keys  = array();
		foreach ( mysqli_fetch_all( Tables::asked( "SHOW COLUMNS FROM `$table`" ), MYSQLI_ASSOC ) as $column ) {
			if ( preg_match( '/char|text|blob|json/i', $column['Type'] ) ) {
				$texts[] = $column['Field'];
			}
			if ( 'PRI' === $column['Key'] ) {
				$keys[] = $column['Field'];
			}
		}
		if ( ! $texts ) {
			return;
		}
		$keys  = $keys ?: $texts;
		$where = implode( ' OR ', array_map( array( $this, 'likeness' ), $texts ) );
		$order = implode( ', ', array_map( array( __CLASS__, 'quoted' ), $keys ) );
		$stays = 0; // rows that hold it still after they were changed
		do {
			$rows = mysqli_fetch_all( Tables::asked( "SELECT * FROM `$table` WHERE $where ORDER BY $order LIMIT " . self::ROWS . " OFFSET $stays" ), MYSQLI_ASSOC );
			foreach ( $rows as $row ) {
				$fresh = $row;
				foreach ( $texts as $name ) {
					$fresh[ $name ] = null === $row[ $name ] ? null : $this->value( $row[ $name ] );
				}
				$stays += false !== stripos( implode( "\0", array_intersect_key( $fresh, array_flip( $texts ) ) ), $this->like ) ? 1 : 0;
				$set    = $this->pairs( array_diff_assoc( $fresh, $row ) );
				if ( $set ) {
					$own = implode( ' AND ', $this->pairs( array_intersect_key( $row, array_flip( $keys ) ), ' <=> ' ) );
					Tables::asked( "UPDATE `$table` SET " . implode( ', ', $set ) . " WHERE $own LIMIT 1" );
				}
			}
		} while ( self::ROWS === count( $rows ) );
	}

	private function likeness( string $column ): string {
		global $wpdb;
		return self::quoted( $column ) . " LIKE '%" . mysqli_real_escape_string( $wpdb->dbh, addcslashes( $this->like, '%_\\' ) ) . "%'";
	}

	private function pairs( array $values, string $sign = ' = ' ): array {
		global $wpdb;
		$pairs = array();
		foreach ( $values as $name => $value ) {
			$pairs[] = self::quoted( $name ) . $sign . ( null === $value ? 'NULL' : "'" . mysqli_real_escape_string( $wpdb->dbh, (string) $value ) . "'" );
		}
		return $pairs;
	}

	private static function quoted( string $name ): string {
		return '`' . str_replace( '`', '``', $name ) . '`';
	}

	/** A text with the addresses changed: `s:22:"http://a.example/shop";` with its length, too. */
	public function value( string $text ): string {
		if ( preg_match( '/^(?:[aOs]:\d+:|[bidN][:;])/', $text ) ) {
			$at    = 0;
			$fresh = $this->part( $text, $at );
			if ( null !== $fresh && strlen( $text ) === $at ) {
				return $fresh;
			}
		}
		return (string) preg_replace_callback( $this->pattern, array( $this, 'instead' ), $text );
	}

	private function instead( array $match ): string {
		$to = '' === $match[1] ? preg_replace( '#^https?:#', '', $this->to ) : $this->to;
		return false === strpos( $match[2], '\\' ) ? $to : str_replace( '/', '\\/', $to );
	}

	/** One value from a place on, which is moved behind it; null where it is not one that can be read. */
	private function part( string $text, int &$at ): ?string {
		if ( preg_match( '/\G(?:N;|[bidrR]:[^;]*;|E:\d+:"[^"]*";)/', $text, $match, 0, $at ) ) {
			$at += strlen( $match[0] );
			return $match[0];
		}
		if ( preg_match( '/\Gs:(\d+):"/', $text, $match, 0, $at ) ) {
			$from = $at + strlen( $match[0] );
			$own  = substr( $text, $from, (int) $match[1] );
			$at   = $from + (int) $match[1] + 2;
			if ( '";' !== substr( $text, $at - 2, 2 ) ) {
				return null;
			}
			$own = $this->value( $own );
			return 's:' . strlen( $own ) . ':"' . $own . '";';
		}
		if ( preg_match( '/\G(?:a|O:\d+:"[^"]*"):(\d+):\{/', $text, $match, 0, $at ) ) {
			$at   += strlen( $match[0] );
			$fresh = $match[0];
			for ( $n = 0; $n < 2 * (int) $match[1]; $n++ ) {
				$one = $this->part( $text, $at );
				if ( null === $one ) {
					return null;
				}
				$fresh .= $one;
			}
			if ( '}' !== substr( $text, $at, 1 ) ) {
				return null;
			}
			++$at;
			return $fresh . '}';
		}
		return null;
	}
}
