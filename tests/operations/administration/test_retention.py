"""What is old is forgotten, what a way back needs is not."""

from datetime import timedelta

from tests.operations.within import WithContext
from windbreak.operations.administration import retention
from windbreak.operations.administration.retention import Retention


class Forgetting(WithContext):
    def setUp(self) -> None:
        super().setUp()
        self.feeds()
        self.site("seapink-florists")
        self.run_id = self.carried_out(self.approved("seapink-florists")).id
        self.events = self.context.store.events.count()
        self.lines = self.context.store.journal.count(run=self.run_id)
        self.assertGreater(self.lines, 3)

    def test_nothing_young_is_forgotten_and_nothing_where_it_is_kept_for_ever(self) -> None:
        self.assertEqual(set(retention.forget(self.context, Retention()).values()), {0})
        self.later = timedelta(days=4000)
        self.assertEqual(set(retention.forget(self.context, Retention(0, 0, 0, 0)).values()), {0})

    def test_old_events_go_and_the_ledger_stays(self) -> None:
        ledger = self.context.store.ledger.count()
        self.later = timedelta(days=31)
        self.assertEqual(retention.forget(self.context, Retention())["events"], self.events)
        self.assertEqual(self.context.store.events.count(), 0)
        self.assertEqual(self.context.store.ledger.count(), ledger)

    def test_the_journal_of_a_sites_last_run_stays(self) -> None:
        self.later = timedelta(days=400)
        self.assertEqual(retention.forget(self.context, Retention())["journals"], 0)
        last = self.context.store.runs.get(self.run_id)
        newer = self.context.store.runs.add(last.model_copy(update={"id": 0}))
        self.assertNotEqual(newer.id, self.run_id)
        self.assertEqual(retention.forget(self.context, Retention())["journals"], self.lines)
        self.assertEqual(self.context.store.runs.get(self.run_id).state, last.state)
