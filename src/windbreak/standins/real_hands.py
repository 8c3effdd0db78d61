"""What befalls a real site beside a run: its owner updates something by hand, its own updater and
what that was offered, a disk that fills.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import time
from collections.abc import Iterator
from pathlib import Path

from windbreak.standins.real import RealSite, run_command

_UPGRADERS = """<?php
$_SERVER['HTTP_HOST'] = '{host}';
require '{root}/wp-load.php';
foreach ( array( 'admin', 'class-wp-upgrader', 'class-wp-automatic-updater' ) as $part ) {{
	require_once ABSPATH . "wp-admin/includes/$part.php";
}}
"""
_OFFERED = """
$offer = array( '{key}' => '{name}', 'new_version' => '{version}', 'package' => '{package}' );
$named = array( '{name}' => 'plugin' === '{key}' ? (object) $offer : $offer );
set_site_transient(
	'update_{key}s',
	(object) array( 'last_checked' => time(), 'checked' => $named, 'response' => $named )
);
"""
_BY_HAND = """
$wait = static function ( $given ) {{
	sleep( {seconds} );
	return $given;
}};
add_filter( 'upgrader_pre_install', $wait );
$skin = new WP_Ajax_Upgrader_Skin();
'plugin' === '{key}' ? ( new Plugin_Upgrader( $skin ) )->upgrade( '{name}' )
	: ( new Theme_Upgrader( $skin ) )->upgrade( '{name}' );
$error = $skin->get_errors();
$told  = array( (string) $error->get_error_code(), (string) $error->get_error_message() );
echo json_encode( $told );
"""
_OFFERS = """
$record = get_site_transient( 'update_plugins' );
echo json_encode( $record ? array_keys( $record->response ) : array() );
"""


def offer(site: RealSite, name: str, version: str, package: Path) -> None:
    """Let the system's own record offer a package: of a plugin by its main file, of a theme by
    its folder.
    """
    _upgraders(site, _OFFERED, name, version=version, package=package)


def offers(site: RealSite) -> list[str]:
    """The plugins, by their main files, for which the system's own record offers something."""
    return list(json.loads(_upgraders(site, _OFFERS)))


def upgraded_by_hand(
    site: RealSite, name: str, version: str, archive: bytes, *, seconds: int = 0
) -> tuple[str, str]:
    """What goes wrong where the site's owner takes a package that the system offers: a code and
    why, both empty where nothing does. It takes some ``seconds`` more than it must.
    """
    package = site.folder / "by-hand.zip"
    package.write_bytes(archive)
    answer = {"version": version, "package": package, "seconds": seconds}
    code, why = json.loads(_upgraders(site, _OFFERED + _BY_HAND, name, **answer).splitlines()[-1])
    return code, why


def updater_is_off(site: RealSite) -> bool:
    """Whether the system's own updater does nothing by itself."""
    return _upgraders(site, "echo (int) ( new WP_Automatic_Updater() )->is_disabled();") == "1"


def _upgraders(site: RealSite, script: str, name: str = "", **told: object) -> str:
    key = "plugin" if name.endswith(".php") else "theme"
    told |= {"root": site.root, "host": site.address[7:], "name": name, "key": key}
    return site.php((_UPGRADERS + script).format(**told))


@contextlib.contextmanager
def on_a_small_disk(site: RealSite, megabytes: int) -> Iterator[None]:
    """Have what it serves on a disk of a size, as it is; what becomes of it there is gone
    afterwards. Raises RuntimeError where none can be mounted.
    """
    aside = site.folder / "aside"
    size = f"size={megabytes}m"
    shutil.copytree(site.root, aside, symlinks=True)
    try:
        run_command(["mount", "-t", "tmpfs", "-o", size, "tmpfs", str(site.root)])
        try:
            shutil.copytree(aside, site.root, symlinks=True, dirs_exist_ok=True)
            yield
        finally:
            run_command(["umount", "-l", str(site.root)])
    finally:
        shutil.rmtree(aside)


def fill_disk(site: RealSite) -> Path:
    """Fill the disk once its upgrader opens a package of the system; the file that fills it."""
    filler = site.root / "filler"
    while not any(site.root.glob("wp-content/upgrade/*/wordpress/wp-admin/*")):
        time.sleep(0.001)
    with contextlib.suppress(OSError), filler.open("wb", buffering=0) as written:
        for part in (2**20, 2**12):
            while (free := shutil.disk_usage(site.root).free) >= part:
                end = written.seek(0, os.SEEK_END)
                os.posix_fallocate(written.fileno(), end, free // part * part)
    return filler
