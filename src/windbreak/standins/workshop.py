"""What the Sandglass Workshop makes for WordPress: a theme with a companion plugin that goes first,
and a form plugin of which one release is fatal. Small, real, made here.
"""

from __future__ import annotations

from windbreak.standins.catalogue import Made

FEED, LABEL = "workshop", "Sandglass Workshop"

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
_DOCK = """<?php
/*
Plugin Name: Dune Dock
Version: {version}
*/
define( 'DUNE_DOCK', '{version}' );
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


def _theme(version: str, floor: str) -> tuple[tuple[str, str], ...]:
    told = {"version": version, "floor": floor}
    return (
        ("style.css", _STYLE.format(**told)),
        ("index.php", _INDEX.format(**told)),
        ("header.php", _HEADER),
        ("footer.php", _FOOTER),
        ("functions.php", _FUNCTIONS.format(**told)),
    )


def _plugin(slug: str, text: str, version: str, more: str = "") -> tuple[tuple[str, str], ...]:
    words = f"words of {version}\n"
    return ((f"{slug}.php", text.format(version=version, more=more)), ("languages/en.txt", words))


def _made(product: str, version: str, days: int, name: str, files: object, **says: object) -> Made:
    return Made(product, version, days, name, dict(says), files=tuple(files))  # type: ignore[arg-type]


WORKSHOP: tuple[Made, ...] = (
    _made("plugin/dune-dock", "1.0", 300, "Dune Dock", _plugin("dune-dock", _DOCK, "1.0")),
    _made("plugin/dune-dock", "1.1", 40, "Dune Dock", _plugin("dune-dock", _DOCK, "1.1")),
    _made("theme/dune", "1.0", 300, "Dune", _theme("1.0", "1.0")),
    _made(
        "theme/dune",
        "1.1",
        30,
        "Dune",
        _theme("1.1", "1.1"),
        requires={"plugin/dune-dock": ">=1.1"},
        changes=[{"kind": "fix", "text": "Titles keep their size."}],
    ),
    _made("plugin/tide-forms", "1.0", 300, "Tide Forms", _plugin("tide-forms", _FORMS, "1.0")),
    _made("plugin/tide-forms", "1.1", 60, "Tide Forms", _plugin("tide-forms", _FORMS, "1.1")),
    _made(
        "plugin/tide-forms",
        "1.2",
        20,
        "Tide Forms",
        _plugin("tide-forms", _FORMS, "1.2", "tide_forms_begin();"),
        changes=[{"kind": "feature", "text": "Forms begin by themselves."}],
    ),
)
INSTALLED = (("plugin/dune-dock", "1.0"), ("plugin/tide-forms", "1.0"), ("theme/dune", "1.0"))


def release(product: str, version: str) -> Made:
    """A release of the workshop. Raises StopIteration."""
    return next(one for one in WORKSHOP if (one.product, one.version) == (product, version))
