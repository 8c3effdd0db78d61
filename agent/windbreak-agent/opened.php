<?php
/**
 * In the place of the system's own question who somebody is, for a request under a looking pass.
 */

if ( ! defined( 'ABSPATH' ) ) {
	exit;
}

function auth_redirect() {
	if ( ! get_current_user_id() ) {
		wp_die( 'There is nobody as whom the editor could be shown.', 403 );
	}
}
