<?php
/**
 * How the system's own upgrader writes files while the agent has it update the system: each whole
 * beside, and then in the place of the one that lies there. That one is kept aside under another
 * name, and whoever asks the site meanwhile never meets half a file.
 */

if ( ! defined( 'ABSPATH' ) ) {
	exit;
}

require_once ABSPATH . 'wp-admin/includes/class-wp-filesystem-base.php';
require_once ABSPATH . 'wp-admin/includes/class-wp-filesystem-direct.php';

class WP_Filesystem_Windbreak extends WP_Filesystem_Direct {
	public function copy( $source, $destination, $overwrite = false, $mode = false ) {
		if ( ! $overwrite && $this->exists( $destination ) ) {
			return false;
		}
		$whole = @link( $source, "$destination.part" ) || parent::copy( $source, "$destination.part", true );
		if ( ! $whole || ! @rename( "$destination.part", $destination ) ) {
			@unlink( "$destination.part" );
			return false;
		}
		return ! $mode || $this->chmod( $destination, $mode );
	}
}
