"""Makers' own helper plugins: present, on, linked, and as new as elsewhere in the fleet."""

from __future__ import annotations

from tests.operations.within import RHONA, WithContext, look_again
from windbreak.core.values.inventories import Installed, Registration
from windbreak.core.values.products import KnownProduct, ProductChange
from windbreak.operations.tracking import catalogue

HELPER, SITE, OTHER = "plugin/purser", "tarnsey-harbour", "whinchat-radio"


class Helpers(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        for site in (SITE, OTHER, "skerry-light"):
            self.site(site)
        product = KnownProduct(id=HELPER, kind="plugin", name="Purser", access="public")
        self.context.store.products.add(product)
        catalogue.change_product(
            self.context, HELPER, ProductChange(helps=("theme/breakwater",)), RHONA
        )

    def put(self, site: str, version: str, *, on: bool = True, linked: str = "") -> None:
        inventory = self.context.store.inventories.get(site)
        one = Installed(product=HELPER, version=version, name="Purser", folder="purser", active=on)
        rest = tuple(c for c in inventory.components if c.product != HELPER)
        update: dict[str, object] = {"components": (*rest, one)}
        if linked:
            update["registrations"] = (
                Registration.model_validate({"product": HELPER, "state": linked}),
            )
        self.context.store.inventories.put(inventory.model_copy(update=update))

    def told(self) -> dict[str, str]:
        found = [f for f in look_again(self.context) if f.kind == "helper"]
        return {f.subject: f.headline.rpartition("Breakwater, ")[2] for f in found}

    def test_each_way_in_which_it_does_not_do_its_work_is_told_and_only_where_it_serves(
        self,
    ) -> None:
        self.assertEqual(self.told(), dict.fromkeys((SITE, OTHER), "is not there."))
        self.put(SITE, "1.4", on=False)
        self.put(OTHER, "1.4")
        self.assertEqual(self.told(), {SITE: "is switched off."})
        self.put(SITE, "1.2")
        self.assertEqual(self.told(), {SITE: "is `1.2`, and `1.4` runs elsewhere in the fleet."})
        self.put(SITE, "1.4", linked="missing")
        self.assertEqual(self.told(), {SITE: "is not linked to its maker."})
        self.put(SITE, "1.4", linked="registered")
        self.assertEqual(self.told(), {})
