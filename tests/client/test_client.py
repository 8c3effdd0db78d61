"""The client library: typed results, errors, waiting; sync and async; the README's example."""

import asyncio
import inspect
import io
import re
from contextlib import redirect_stdout
from pathlib import Path

from tests.running import WithDemo
from windbreak.client import AsyncWindbreak, NotPermitted, Problem, Windbreak, calls
from windbreak.core.values.verdicts import Answer
from windbreak.documents.sites import SiteSummary

README = Path(__file__).parents[2] / "README.md"


class Surface(WithDemo):
    def test_both_clients_offer_every_call(self) -> None:
        names = [
            name
            for name, made in inspect.getmembers(calls, inspect.isfunction)
            if made.__module__ == calls.__name__
            and not name.startswith("_")
            and name != "stream_events"
        ]
        self.assertGreater(len(names), 40)
        for client in (Windbreak, AsyncWindbreak):
            for name in names:
                with self.subTest(client=client.__name__, call=name):
                    own = inspect.signature(getattr(client, name))
                    theirs = inspect.signature(getattr(calls, name))
                    self.assertEqual([*own.parameters][1:], [*theirs.parameters])

    def test_results_are_the_cores_own_types(self) -> None:
        self.assertIsInstance(self.windbreak.sites()[0], SiteSummary)
        self.assertIsInstance(self.windbreak.verdicts("tarnsey-harbour"), Answer)

    def test_a_no_carries_its_problem_details(self) -> None:
        with self.assertRaises(Problem) as caught:
            self.windbreak.site("atlantis")
        self.assertEqual((caught.exception.status, caught.exception.code), (404, "not-found"))
        with Windbreak(self.demo.address, "wrong") as nobody, self.assertRaises(NotPermitted):
            nobody.sites()

    def test_waiting_ends_in_time_and_the_run_goes_on(self) -> None:
        self.slow("skerry-light", apply=1.0)
        run = self.begin("skerry-light")
        with self.assertRaises(TimeoutError):
            self.windbreak.wait(run, timeout=0.5)
        self.assertEqual(self.ended(run).run.state, "done")

    def test_the_async_client_does_the_same(self) -> None:
        async def work() -> tuple[list[SiteSummary], str]:
            async with AsyncWindbreak(self.demo.address, self.token) as windbreak:
                rows, answer = await asyncio.gather(
                    windbreak.sites(), windbreak.verdicts("whinchat-radio")
                )
                plan = await windbreak.draft_plan("seapink-florists")
                await windbreak.approve_plan(plan.id)
                run = await windbreak.run_plan(plan.id, outside_window=True)
                story = await windbreak.wait(run.id, timeout=60)
                async for event in windbreak.events(after=0):
                    assert event.id == 1
                    break
                assert answer.site == "whinchat-radio"
                return rows, story.run.state

        rows, state = asyncio.run(work())
        self.assertEqual(rows[0].label, self.windbreak.sites()[0].label)
        self.assertEqual(state, "restored")

    def test_the_example_of_the_readme_runs(self) -> None:
        (example,) = re.findall(r"```python\n(.*?)```", README.read_text(), re.DOTALL)
        example = example.replace("http://127.0.0.1:8470", self.demo.address)
        example = example.replace("YOUR-TOKEN", self.token)
        said = io.StringIO()
        with redirect_stdout(said):
            exec(compile(example, "README.md", "exec"), {})
        self.assertIn("Tarnsey Harbour Museum", said.getvalue())
        self.assertIn("done", said.getvalue())
