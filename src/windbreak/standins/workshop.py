"""What the Sandglass Workshop makes for WordPress. Small, real, made here; by product:

theme/dune            a theme that needs its companion first, and carries two plugins; sold; it
                      keeps its styles in a file that it makes itself
plugin/dune-dock      the companion, which goes first
plugin/dune-slides    carried; 1.1 and Dune 1.1 need each other, so they go together
plugin/dune-icons     carried
theme/dune-child      the site's own child theme; nobody releases it
plugin/tide-forms     1.2 is fatal
plugin/plank-blocks   1.1 breaks the editor: every paragraph is a warning
plugin/still-water    a cache of whole pages
plugin/tide-ledger    2.0 moves what it keeps into a new form, portion by portion, and takes a code
"""

from __future__ import annotations

from datetime import date, timedelta

from windbreak.core.values.feeds import NewFeed
from windbreak.core.values.licences import NewLicence
from windbreak.standins.catalogue import Made

FEED, LABEL = "workshop", "Sandglass Workshop"
SOLD, SOLD_LABEL, KEY = "workshop-sold", "Sandglass Workshop, sold", "workshop-demo-key-2c7f06e9"

_STYLE = """/*
Theme Name: Dune
Version: {version}
Requires PHP: 7.4
*/
body {{ margin: 2em; }}
"""
_INDEX = """<?php
get_header();
while ( have_posts() ) {{
	the_post();
	the_title( '<h2>', '</h2>' );
	the_content();
}}
echo '<p class="dune">Dune {version}</p>';
get_footer();
"""
_HEADER = """<!doctype html>
<html><head><title><?php bloginfo( 'name' ); ?></title><?php wp_head(); ?></head>
<body><h1><?php bloginfo( 'name' ); ?></h1>
"""
_FOOTER = "<?php wp_footer(); ?></body></html>\n"
_FUNCTIONS = """<?php
if ( ! defined( 'DUNE_DOCK' ) || version_compare( DUNE_DOCK, '{floor}', '<' ) ) {{
	trigger_error( 'Dune {version} needs Dune Dock {floor}', E_USER_ERROR );
}}
"""
# What is generated, and shown with the version that it was made of.
_STYLES = """function dune_styles() {{
	return wp_upload_dir()['basedir'] . '/dune-styles.css';
}}
add_filter(
	'windbreak_regenerate',
	static function ( $done, $product ) {{
		if ( 'theme/dune' !== $product ) {{
			return $done;
		}}
		wp_mkdir_p( dirname( dune_styles() ) );
		return false !== file_put_contents( dune_styles(), 'p {{ --made-of: {version}; }}' );
	}},
	10,
	2
);
add_action(
	'wp_footer',
	static function () {{
		$styles = (string) @file_get_contents( dune_styles() );
		$of     = preg_match( '/made-of: ([0-9.]+)/', $styles, $match ) ? $match[1] : 'none';
		echo '<p class="styles">styles of ' . esc_html( $of ) . '</p>';
	}}
);
"""
_SLOT = """function dune_slot( $text ) {
	echo '<p class="slot">' . esc_html( $text . dune_slides_mark() ) . '</p>';
}
"""
_CHILD = """/*
Theme Name: Saltgrass Dune
Template: dune
Version: 1.0
*/
h1 { color: #1f5c46; }
"""
_DOCK = """<?php
/*
Plugin Name: Dune Dock
Version: {version}
*/
define( 'DUNE_DOCK', '{version}' );
"""
_SLIDES = """<?php
/*
Plugin Name: Dune Slides
Version: {version}
*/
function dune_slides_mark() {{
	return ' · slides {version}';
}}
{more}
"""
_IN_SLOT = "add_action( 'wp_footer', static function () { dune_slot( 'Slides' ); } );"
_ICONS = """<?php
/*
Plugin Name: Dune Icons
Version: {version}
*/
add_action( 'wp_footer', static function () {{ echo '<p class="icons">icons {version}</p>'; }} );
"""
_FORMS = """<?php
/*
Plugin Name: Tide Forms
Version: {version}
*/
add_filter(
	'the_content',
	static function ( $text ) {{
		return $text . '<p class="tide">Tide Forms {version}</p>';
	}}
);
{more}
"""
_PLANK = """<?php
/*
Plugin Name: Plank Blocks
Version: {version}
*/
add_action(
	'enqueue_block_editor_assets',
	static function () {{
		$needs = array( 'wp-blocks', 'wp-element', 'wp-hooks' );
		wp_enqueue_script( 'plank', plugins_url( 'plank.js', __FILE__ ), $needs, '{version}' );
	}}
);
"""
_NOTE = """wp.blocks.registerBlockType( 'plank/note', {
	title: 'Note',
	category: 'text',
	edit: () => wp.element.createElement( 'p', {}, 'A note' ),
	save: () => wp.element.createElement( 'p', { className: 'plank' }, 'A note' ),
} );
"""
_BREAKS = """wp.hooks.addFilter( 'blocks.registerBlockType', 'plank/p', ( settings, name ) =>
	'core/paragraph' === name ? { ...settings, edit: () => plankEdit( settings ) } : settings );
"""
_STILL = """<?php
/*
Plugin Name: Still Water
Version: {version}
*/
register_activation_hook(
	__FILE__,
	static function () {{
		copy( __DIR__ . '/drop-in.php', WP_CONTENT_DIR . '/advanced-cache.php' );
	}}
);
"""
_DROP_IN = """<?php
// Still Water's cache of whole pages.
( static function () {
	$fresh = false !== strpos( (string) ( $_SERVER['HTTP_CACHE_CONTROL'] ?? '' ), 'no-cache' );
	$own   = $_COOKIE || false !== strpos( $_SERVER['REQUEST_URI'], 'wp-' );
	if ( 'GET' !== ( $_SERVER['REQUEST_METHOD'] ?? '' ) || $fresh || $own ) {
		return;
	}
	$file = WP_CONTENT_DIR . '/cache/still-water/' . md5( $_SERVER['REQUEST_URI'] ) . '.html';
	if ( is_file( $file ) && filemtime( $file ) > time() - 3600 ) {
		header( 'X-Still-Water: kept' );
		readfile( $file );
		exit;
	}
	ob_start(
		static function ( $page ) use ( $file ) {
			if ( 200 === http_response_code() && '' !== $page ) {
				@mkdir( dirname( $file ), 0755, true );
				file_put_contents( $file, $page );
			}
			return $page;
		}
	);
} )();
"""
_LEDGER = """<?php
/*
Plugin Name: Tide Ledger
Version: {version}
*/
add_action(
	'init',
	static function () {{
		$form = (int) get_option( 'tide_ledger_form', 1 );
		if ( $form < {form} && ! wp_next_scheduled( 'tide_ledger_move' ) ) {{
			wp_schedule_single_event( time() - 1, 'tide_ledger_move' );
		}}
	}}
);
add_action(
	'tide_ledger_move',
	static function () {{
		usleep( (int) get_option( 'tide_ledger_slow', 100000 ) );
		$moved = 1 + (int) get_option( 'tide_ledger_moved', 0 );
		if ( $moved === (int) get_option( 'tide_ledger_sticks', 0 ) ) {{
			throw new RuntimeException( 'portion ' . $moved . ' can’t be read' );
		}}
		update_option( 'tide_ledger_moved', $moved );
		if ( $moved >= {portions} ) {{
			update_option( 'tide_ledger_form', {form} );
		}} else {{
			wp_schedule_single_event( time() - 1, 'tide_ledger_move' );
		}}
	}}
);
"""
_CODE = """
add_filter(
	'windbreak_register',
	static function ( $done, $product, $code ) {
		if ( 'plugin/tide-ledger' !== $product ) {
			return $done;
		}
		if ( 0 !== strpos( $code, 'TIDE-' ) ) {
			return 'The workshop knows no such code.';
		}
		update_option( 'tide_ledger_code', $code );
		return true;
	},
	10,
	3
);
add_filter(
	'windbreak_registrations',
	static function ( $every ) {
		$code = (string) get_option( 'tide_ledger_code', '' );
		$told = array( 'state' => 'registered', 'last4' => substr( $code, -4 ) );

		$every['plugin/tide-ledger'] = '' === $code ? array( 'state' => 'missing' ) : $told;
		return $every;
	}
);
"""
PORTIONS = 12  # in which the ledger is moved


def _theme(version: str, floor: str, more: str = "") -> tuple[tuple[str, str], ...]:
    fields = {"version": version, "floor": floor}
    return (
        ("style.css", _STYLE.format(**fields)),
        ("index.php", _INDEX.format(**fields)),
        ("header.php", _HEADER),
        ("footer.php", _FOOTER),
        ("functions.php", (_FUNCTIONS + _STYLES).format(**fields) + more),
    )


def _plugin(
    product: str, version: str, text: str, *files: tuple[str, str], **told: object
) -> tuple[tuple[str, str], ...]:
    slug = product.partition("/")[2]
    whole = text.format(version=version, **{"more": "", **told})
    return ((f"{slug}.php", whole), ("languages/en.txt", f"words of {version}\n"), *files)


def _made(product: str, version: str, days: int, name: str, files: object, **says: object) -> Made:
    return Made(product, version, days, name, dict(says), files=tuple(files))  # type: ignore[arg-type]


def _of(product: str, name: str, text: str, *versions: tuple[str, int]) -> list[Made]:
    """The releases of a plugin of which nothing has to be told."""
    return [_made(product, v, days, name, _plugin(product, v, text)) for v, days in versions]


DOCK, SLIDES, ICONS = "plugin/dune-dock", "plugin/dune-slides", "plugin/dune-icons"
FORMS, PLANK, STILL = "plugin/tide-forms", "plugin/plank-blocks", "plugin/still-water"
LEDGER, DUNE, CHILD = "plugin/tide-ledger", "theme/dune", "theme/dune-child"

_slides = (
    _made(SLIDES, "1.0", 300, "Dune Slides", _plugin(SLIDES, "1.0", _SLIDES)),
    _made(
        SLIDES,
        "1.1",
        30,
        "Dune Slides",
        _plugin(SLIDES, "1.1", _SLIDES, more=_IN_SLOT),
        requires={DUNE: ">=1.1"},
    ),
)
_icons = tuple(_of(ICONS, "Dune Icons", _ICONS, ("1.0", 300), ("1.1", 30)))


def _dune(version: str, days: int, floor: str, n: int, more: str = "", **says: object) -> Made:
    bundles = {
        SLIDES: {"version": version},
        ICONS: {"version": version, "need": "optional"},
    }
    return Made(
        DUNE,
        version,
        days,
        "Dune",
        {**says, "bundles": bundles},
        files=_theme(version, floor, more),
        carries=(_slides[n], _icons[n]),
    )


WORKSHOP: tuple[Made, ...] = (
    *_of(DOCK, "Dune Dock", _DOCK, ("1.0", 300), ("1.1", 40)),
    *_slides,
    *_icons,
    _dune("1.0", 300, "1.0", 0),
    _dune(
        "1.1",
        30,
        "1.1",
        1,
        _SLOT,
        requires={DOCK: ">=1.1", SLIDES: ">=1.1"},
        tasks=[{"kind": "regenerate", "by": "agent", "text": "Make the styles anew"}],
        changes=[{"kind": "fix", "text": "Titles keep their size."}],
    ),
    *_of(FORMS, "Tide Forms", _FORMS, ("1.0", 300), ("1.1", 60)),
    _made(
        FORMS,
        "1.2",
        20,
        "Tide Forms",
        _plugin(FORMS, "1.2", _FORMS, more="tide_forms_begin();"),
        changes=[{"kind": "feature", "text": "Forms begin by themselves."}],
    ),
    _made(PLANK, "1.0", 300, "Plank Blocks", _plugin(PLANK, "1.0", _PLANK, ("plank.js", _NOTE))),
    _made(
        PLANK,
        "1.1",
        25,
        "Plank Blocks",
        _plugin(PLANK, "1.1", _PLANK, ("plank.js", _NOTE + _BREAKS)),
        changes=[{"kind": "feature", "text": "Paragraphs can be planked."}],
    ),
    *(
        _made(STILL, v, days, "Still Water", _plugin(STILL, v, _STILL, ("drop-in.php", _DROP_IN)))
        for v, days in (("1.0", 300), ("1.1", 50))
    ),
    _made(
        LEDGER,
        "1.0",
        300,
        "Tide Ledger",
        _plugin(LEDGER, "1.0", _LEDGER, form=1, portions=PORTIONS),
    ),
    _made(
        LEDGER,
        "2.0",
        35,
        "Tide Ledger",
        _plugin(LEDGER, "2.0", _LEDGER + "{code}", form=2, portions=PORTIONS, code=_CODE),
        tasks=[
            {"kind": "migrate", "by": "agent", "text": "Move the ledger to its new form"},
            {"kind": "register", "by": "person", "text": "Enter the site’s own code"},
        ],
        changes=[{"kind": "breaking", "text": "The ledger is kept in a new form."}],
    ),
)
FREE = tuple([made for made in WORKSHOP if made.product not in (DUNE, SLIDES, ICONS)])
LICENSED = tuple([made for made in WORKSHOP if made not in FREE])
LICENCE = NewLicence(
    id="dune",
    label="Dune, with what it carries",
    form="seats",
    products=(DUNE, SLIDES, ICONS),
    seats=1,  # a twin rides along
    covers_until=date.today() + timedelta(days=200),
    bought_by="saltgrass-studio",
)
OWN = _made(CHILD, "1.0", 200, "Saltgrass Dune", (("style.css", _CHILD),))  # the site's own
INSTALLED = tuple(
    (product, "1.0") for product in (DOCK, SLIDES, ICONS, FORMS, PLANK, STILL, LEDGER, DUNE)
)


def feeds(base: str) -> list[NewFeed]:
    """Its feeds, at the address of all: what is free, and what is sold, which wants a key."""
    asks = {"sign_in": "bearer", "credential": KEY}
    return [
        NewFeed.model_validate(
            {"id": id, "label": label, "url": f"{base}/{id}/releases.json", **more}
        )
        for id, label, more in ((FEED, LABEL, {}), (SOLD, SOLD_LABEL, asks))
    ]


def release(product: str, version: str) -> Made:
    """A release of the workshop. Raises StopIteration."""
    return next(
        release for release in WORKSHOP if (release.product, release.version) == (product, version)
    )
