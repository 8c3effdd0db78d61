"""Licences and seats: what is given, what is refused, what is read back, what is forecast."""

from datetime import timedelta
from typing import Any

from pydantic import SecretStr

from tests.operations.within import RHONA, WithContext, look_again
from windbreak.core.values.licences import LicenceChange, NewLicence, NewSeat
from windbreak.core.values.sites import NewSite
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import (
    licence_codes,
    licence_entry,
    licence_forecasts,
    licence_rights,
    licence_views,
    licensing,
)
from windbreak.operations.reasoning import answers
from windbreak.operations.sites import retiring, sites
from windbreak.operations.views import credentials
from windbreak.standins.feeds import TOKEN
from windbreak.standins.millrace import MillraceSite

CODE = "BW5-TARNSEY-HK2D-7Q2F"


class Licensing(WithContext):
    def setUp(self) -> None:
        super().setUp()
        for slug, more in {
            "ferry": {},
            "ferry-twin": {"twin_of": "ferry", "environment": "staging"},
            "inn": {},
            "inn-twin": {"twin_of": "inn", "environment": "staging"},
        }.items():
            new = {"label": slug, "address": f"https://{slug}.example", **more}
            sites.register(self.context, NewSite.model_validate(new), RHONA, slug)

    def licence(self, **more: Any) -> None:
        told = {"id": "bw", "label": "Breakwater", "form": "seats", "seats": 1}
        told |= {"products": ["theme/breakwater"], **more}
        licensing.add(self.context, NewLicence.model_validate(told), RHONA)

    def seat(self, site: str, code: str | None = None) -> bool:
        new = NewSeat.model_validate({"site": site, "code": code})
        return licensing.seat(self.context, "bw", new, RHONA).riding

    def refused(self, site: str, code: str | None = None) -> str:
        before = self.context.store.seats.all()
        with self.assertRaises(Refused) as caught:
            self.seat(site, code)
        self.assertEqual(self.context.store.seats.all(), before)
        return caught.exception.code

    def test_a_seat_too_many_is_refused_and_a_copy_rides_free(self) -> None:
        self.licence()
        self.assertFalse(self.seat("ferry"))
        self.assertTrue(self.seat("ferry-twin"))
        self.assertEqual(self.refused("inn"), "seat-too-many")
        self.assertEqual(self.refused("inn-twin"), "seat-too-many")
        self.assertEqual(self.refused("ferry"), "has-a-seat")
        view = licence_views.view(self.context, "bw")
        self.assertEqual((view.own, view.riders, view.free), (1, 1, 0))
        licensing.unseat(self.context, "bw", "ferry", RHONA)
        self.assertEqual(self.context.store.seats.all(), [])

    def test_a_live_site_takes_the_seat_and_its_copy_rides_in_whatever_order(self) -> None:
        self.licence()
        self.assertFalse(self.seat("ferry-twin"))  # nobody to ride on yet
        self.assertFalse(self.seat("ferry"))  # the only seat is the live site’s now
        held = {one.site: one.riding for one in self.context.store.seats.all()}
        self.assertEqual(held, {"ferry": False, "ferry-twin": True})
        self.assertEqual(self.refused("inn"), "seat-too-many")
        licensing.change(self.context, "bw", LicenceChange(seats=2), RHONA)
        self.assertFalse(self.seat("inn"))
        self.assertTrue(self.seat("inn-twin"))

    def test_where_nothing_rides_a_copy_takes_a_seat(self) -> None:
        self.licence(riding=False, seats=2)
        self.assertFalse(self.seat("ferry"))
        self.assertFalse(self.seat("ferry-twin"))
        self.assertEqual(self.refused("inn"), "seat-too-many")

    def test_one_code_is_good_for_one_live_site(self) -> None:
        self.licence(form="per-site code", seats=5)
        self.assertEqual(self.refused("ferry"), "no-code")
        self.seat("ferry", f"  {CODE}\u200b\n")
        self.assertEqual(self.refused("inn", CODE), "code-in-use")
        self.assertTrue(self.seat("ferry-twin", CODE))
        self.seat("inn", "BW5-THE-INN-0001")
        self.assertEqual(licence_codes.code_for(self.context, "ferry", "theme/breakwater"), CODE)
        self.assertEqual(licence_codes.code_for(self.context, "inn-twin", "theme/breakwater"), None)

    def test_a_retired_site_gets_no_seat_and_frees_its_own(self) -> None:
        self.licence()
        self.seat("inn")
        with self.assertRaises(Refused) as caught:
            retiring.retire(self.context, "inn", RHONA)
        self.assertEqual(caught.exception.code, "has-a-twin")
        retiring.retire(self.context, "inn-twin", RHONA)
        retiring.retire(self.context, "inn", RHONA)
        self.assertEqual(self.context.store.seats.all(), [])
        self.assertEqual(self.refused("inn"), "retired")
        self.assertTrue(self.context.store.ledger.all(subject="inn"))

    def test_forms_without_seats_have_none_to_give(self) -> None:
        for form in ("account", "membership"):
            self.licence(id=form, form=form, seats=None)
            with self.assertRaises(Refused) as caught:
                licensing.seat(self.context, form, NewSeat(site="inn"), RHONA)
            self.assertEqual(caught.exception.code, "no-seats")
        rights = licence_rights.rights(self.context)
        self.assertEqual(
            {
                x.product
                for x in licence_rights.for_case(rights, self.context.store.sites.get("inn"))
            },
            {"theme/breakwater"},
        )

    def test_fewer_seats_than_are_taken_are_refused(self) -> None:
        self.licence(seats=3)
        self.seat("ferry")
        self.seat("inn")
        with self.assertRaises(Refused):
            licensing.change(self.context, "bw", LicenceChange(seats=1), RHONA)
        with self.assertRaises(Refused):
            licensing.drop(self.context, "bw", RHONA)

    def test_what_makes_no_sense_is_refused_on_entry(self) -> None:
        for more in (
            {"products": []},
            {"through": "theme/breakwater"},
            {"form": "through a theme"},
        ):
            with self.subTest(more=more), self.assertRaises(ValueError):
                self.licence(**more)
        with self.assertRaises(Refused):
            self.licence(form="per-site code", code="one for all")


class OnSites(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        # The stand-in outlives each test: no code is in place there yet.
        folder = self.demo.standins_folder / "tarnsey-harbour/site"
        MillraceSite(folder).set_setting("code:theme/breakwater", "")
        self.site("tarnsey-harbour")

    def kinds(self) -> set[str]:
        return {f.kind for f in look_again(self.context)}

    def test_grace_runs_till_the_code_is_entered_and_read_back(self) -> None:
        (seat,) = licence_views.view(self.context, "breakwater").seats
        self.assertEqual(seat.state, "grace")
        self.assertIn("grace", self.kinds())
        (result,) = licence_entry.enter(self.context, "breakwater", RHONA)
        self.assertEqual(result.state, "registered")
        self.assertNotIn("grace", self.kinds())
        inventory = self.context.store.inventories.get("tarnsey-harbour")
        told = inventory.registration_of("theme/breakwater")
        assert told is not None
        self.assertEqual(told.last4, CODE[-4:])

    def test_a_rotated_code_is_not_revoked_while_a_site_has_the_old_one(self) -> None:
        licence_entry.enter(self.context, "breakwater", RHONA)
        licence_codes.rotate(self.context, "breakwater", "BW5-NEW-0001", "tarnsey-harbour", RHONA)
        view = licence_views.view(self.context, "breakwater")
        self.assertEqual(view.still_old, ("tarnsey-harbour",))
        self.assertEqual(view.seats[0].state, "other code")
        self.assertIn("rotation", self.kinds())
        licence_entry.enter(self.context, "breakwater", RHONA)
        self.assertEqual(licence_views.view(self.context, "breakwater").still_old, ())
        self.assertNotIn("rotation", self.kinds())
        with self.assertRaises(Refused):
            licence_codes.rotate(self.context, "breakwater", "BW5-NEW-0002", None, RHONA)

    def test_an_end_is_said_before_and_after_with_what_stops(self) -> None:
        day = self.context.clock().date()
        for ends, headline in [
            (day + timedelta(days=9), "ends"),
            (day - timedelta(days=2), "ended"),
        ]:
            change = LicenceChange(expires=ends, bought_by="saltgrass")
            licensing.change(self.context, "breakwater", change, RHONA)
            found = {f.id: f for f in look_again(self.context)}
            end = found["licence-end:breakwater"]
            self.assertIn(f" {headline} ", end.headline)
            self.assertIn("Trestle", end.text)
            self.assertIn("saltgrass", end.text)
        outcomes = {
            v.product: v.outcome for v in answers.verdicts(self.context, "tarnsey-harbour").verdicts
        }
        self.assertEqual(outcomes["theme/breakwater"], "stay")

    def test_a_range_that_a_licence_covers_binds(self) -> None:
        licensing.change(self.context, "breakwater", LicenceChange(range="<5.2"), RHONA)
        verdict = next(
            v
            for v in answers.verdicts(self.context, "tarnsey-harbour").verdicts
            if v.product == "theme/breakwater"
        )
        self.assertEqual(verdict.to, "5.1")
        assert verdict.blocked is not None
        self.assertIn("does not cover 5.2", verdict.blocked.text)

    def test_seats_that_give_nothing_are_found_with_how_to_take_them_back(self) -> None:
        extra = {"id": "b2", "label": "Breakwater, old", "form": "seats", "seats": 2}
        extra |= {"products": ["theme/breakwater", "plugin/breakwater-keel"], "range": "<5"}
        licensing.add(self.context, NewLicence.model_validate(extra), RHONA)
        licensing.seat(self.context, "b2", NewSeat(site="tarnsey-harbour"), RHONA)
        other = {"id": "m", "label": "Mooring", "form": "seats", "seats": 1}
        other |= {"products": ["theme/mooring"]}
        licensing.add(self.context, NewLicence.model_validate(other), RHONA)
        licensing.seat(self.context, "m", NewSeat(site="tarnsey-harbour"), RHONA)
        told = {f.kind: f for f in look_again(self.context)}
        self.assertEqual(told["second-seat"].act.on["licence"], "b2")
        self.assertEqual(told["idle-seat"].act.on["licence"], "m")
        licensing.unseat(self.context, "m", "tarnsey-harbour", RHONA)
        licensing.unseat(self.context, "b2", "tarnsey-harbour", RHONA)
        self.assertFalse({"second-seat", "idle-seat"} & self.kinds())

    def test_a_user_without_a_seat_is_found_and_seats_are_forecast(self) -> None:
        licensing.unseat(self.context, "breakwater", "tarnsey-harbour", RHONA)
        self.assertEqual(
            licence_views.view(self.context, "breakwater").without, ("tarnsey-harbour",)
        )
        kinds = self.kinds()
        self.assertIn("root", kinds)  # it tells what the lack keeps back, and is the only one to
        self.assertNotIn("seat", kinds)
        inventory = self.context.store.inventories.get("tarnsey-harbour")
        older = tuple(
            c.model_copy(update={"version": "4.9"}) if c.product == "theme/breakwater" else c
            for c in inventory.components
        )
        self.context.store.inventories.put(inventory.model_copy(update={"components": older}))
        licensing.change(self.context, "breakwater", LicenceChange(seats=0), RHONA)
        (told,) = licence_forecasts.forecasts(self.context)
        self.assertEqual(
            (told.version, told.form, told.needed, told.missing), ("5.0", "per-site code", 1, 1)
        )
        kinds = self.kinds()
        self.assertIn("root", kinds)
        self.assertNotIn("forecast", kinds)


class Codes(WithContext):
    """Codes that stand on sites and have no seat there."""

    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("tarnsey-harbour")
        self.site("whinchat-radio")

    def codes(self, site: str) -> list[str]:
        return [f.kind for f in look_again(self.context) if f.subject == site and "code" in f.kind]

    def test_a_code_whose_seat_was_taken_back_and_still_stands_is_told(self) -> None:
        self.assertEqual(self.codes("whinchat-radio"), [])
        licensing.unseat(self.context, "breakwater", "whinchat-radio", RHONA)
        self.assertEqual(self.codes("whinchat-radio"), ["code-left"])
        code = SecretStr("BW5-WHINCHAT-88PX-C3MN")
        licensing.seat(self.context, "breakwater", NewSeat(site="whinchat-radio", code=code), RHONA)
        self.assertEqual(self.codes("whinchat-radio"), [])

    def test_a_site_that_is_registered_with_anothers_code_is_told_with_whose_it_is(self) -> None:
        licensing.unseat(self.context, "breakwater", "whinchat-radio", RHONA)
        inventory = self.context.store.inventories.get("whinchat-radio")
        (one,) = inventory.registrations
        for last4, kind in (("7Q2F", "code-twice"), ("ZZZZ", "code-unknown")):
            other = (one.model_copy(update={"last4": last4}),)
            self.context.store.inventories.put(
                inventory.model_copy(update={"registrations": other})
            )
            self.assertEqual(self.codes("whinchat-radio"), [kind])
        told = [f for f in look_again(self.context) if f.kind == "code-unknown"]
        self.assertIn("…ZZZZ", told[0].text)

    def test_a_code_is_the_same_in_other_letter_case_and_spacing(self) -> None:
        licensing.unseat(self.context, "breakwater", "whinchat-radio", RHONA)
        with self.assertRaises(Refused) as caught:
            code = SecretStr("bw5-tarnsey -hk2d-7q2f")
            new = NewSeat(site="whinchat-radio", code=code)
            licensing.seat(self.context, "breakwater", new, RHONA)
        self.assertEqual(caught.exception.code, "code-in-use")

    def test_the_table_says_where_each_credential_is_used_and_shows_none(self) -> None:
        rows = credentials.rows(self.context)
        feed = {row.product: row for row in rows if row.feed == "chandlery"}
        breakwater = feed["theme/breakwater"]
        self.assertEqual(
            [one.site for one in breakwater.sites], ["tarnsey-harbour", "whinchat-radio"]
        )
        self.assertEqual(breakwater.credential, f"bearer …{TOKEN[-4:]}")
        (own,) = [r for r in rows if r.licence == "breakwater" and r.product == "theme/breakwater"]
        states = {one.site: one.state for one in own.sites}
        self.assertEqual(states, {"tarnsey-harbour": "grace", "whinchat-radio": "registered"})
        self.assertEqual(own.state, "grace")
        self.assertNotIn(TOKEN, str(rows))
        self.assertNotIn("BW5-WHINCHAT", str(rows))
