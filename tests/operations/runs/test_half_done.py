"""What was interrupted: pages that give no answer, agents that die in an act, crashes of ours."""

import time
from typing import Any
from unittest import mock

from tests.operations.runs.within import WithRuns
from windbreak.core.values.journal import RunAct
from windbreak.core.values.runs import Look
from windbreak.links.visiting import Visiting
from windbreak.operations.runs import debts, journal, looking, runs
from windbreak.standins.demo import Demo

SITE = "skerry-light"


class Crash(BaseException):
    """Our process ends here."""


class HalfDone(WithRuns):
    beside = Demo  # a process of its own, that can be killed

    def setUp(self) -> None:
        super().setUp()
        self.site(SITE)
        self.plan = self.approved(SITE)

    def test_a_page_that_gives_no_answer_is_looked_at_again_and_nothing_is_put_back(self) -> None:
        real, silent = looking.look_at, [3]

        def look_at(site: Visiting, name: str, where: str, **how: Any) -> Look:
            look = real(site, name, where, **how)
            begun = any(str(e.act) == "step 1" for e in self.context.store.journal.all(run=1))
            if begun and name == "Front page" and silent[0]:
                silent[0] -= 1
                return look.model_copy(update={"status": None, "bytes": 0, "marks": ()})
            return look

        with (
            mock.patch.object(looking, "look_at", look_at),
            mock.patch.object(looking, "_PAUSES", (0.1, 0.1, 0.1, 0.1)),
        ):
            run = self.carried_out(self.plan)
        self.assertEqual((run.state, silent), ("done", [0]), run.text)

    def test_a_page_that_never_answers_beside_its_agent_is_put_back(self) -> None:
        real = looking.look_at

        def look_at(site: Visiting, name: str, where: str, **how: Any) -> Look:
            look = real(site, name, where, **how)
            acts = self.acts(self.context.store.runs.get(1))
            if ("step 1", "meant") in acts and ("step 1", "failed") not in acts and name == "News":
                return look.model_copy(update={"status": None, "bytes": 0, "marks": ()})
            return look

        with (
            mock.patch.object(looking, "look_at", look_at),
            mock.patch.object(looking, "_PAUSES", (0.1, 0.1)),
        ):
            run = self.carried_out(self.plan)
        self.assertEqual(run.state, "put back", run.text)
        self.assertIn("no answer", run.text)

    def test_an_act_in_which_the_agent_died_is_done_once_more(self) -> None:
        self.faults(SITE, slow={"apply": 3})
        run, thread = self.run_aside(self.plan)
        product = self.plan.plan.steps[0].moves[0].product
        act = f"apply 1 {product}"
        self.until(lambda: (act, "meant") in self.acts(run))
        time.sleep(0.7)
        self.demo.kill("standins")
        self.faults(SITE)
        self.demo.start_standins()
        thread.join(90)
        ended = self.now(run)
        self.assertEqual(ended.state, "done", ended.text)
        self.assertIn((f"{act} turn 2", "done"), self.acts(run))
        self.assertEqual(debts.owed(self.context, SITE), [])

    def test_any_act_that_did_not_end_is_done_once_more(self) -> None:
        self.faults(SITE, **{"timed-out": {"snapshot": "did-not", "updates": "did-not"}})
        run = self.carried_out(self.plan)
        self.assertEqual(run.state, "done", run.text)
        for act in ("snapshot", "updates-paused"):
            self.assertIn((f"{act} turn 2", "done"), self.acts(run))
            self.assertIn((act, "done"), self.acts(run))

    def test_what_was_being_done_once_more_when_we_died_is_gone_on_with(self) -> None:
        product = self.plan.plan.steps[0].moves[0].product
        again = f"apply 1 {product} turn 2"
        self.faults(SITE, **{"timed-out": {"apply": "did-not"}})
        real = journal.Journal.write

        def write(own: journal.Journal, act: RunAct[Any], state: Any, **more: Any) -> Any:
            if (str(act), state) == (again, "done"):
                raise Crash
            return real(own, act, state, **more)

        run = runs.start(self.context, self.plan.id, "Rhona Vale")
        with mock.patch.object(journal.Journal, "write", write), self.assertRaises(Crash):
            runs.carry_out(self.context, run.id)
        ended = runs.carry_out(self.context, run.id)
        self.assertEqual(ended.state, "done", ended.text)
        self.assertIn((again, "done"), self.acts(run))
        applied = [e for e in self.lines(run) if e.kind == "apply" and e.product == product]
        self.assertEqual(sum(e.state == "done" for e in applied), 1)
