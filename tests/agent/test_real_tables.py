"""A database of a real site written out and made anew: also what is no plain table."""

from __future__ import annotations

from tests.agent.test_real import SITE, WithReal
from windbreak.operations.sites import sites

# Orders and their lines, tied by a key with a name of its own; one that is numbered 0; what the
# database reckons itself; a trigger that counts; a view, and one that looks through it.
_MADE = """
CREATE TABLE wp_tide_orders (
  id INT AUTO_INCREMENT PRIMARY KEY, amount INT, twice INT AS (amount * 2) STORED,
  note TEXT, seal BLOB, at TIMESTAMP DEFAULT CURRENT_TIMESTAMP
);
CREATE TABLE wp_tide_lines (
  id INT AUTO_INCREMENT PRIMARY KEY, tide_order INT,
  KEY of_order (tide_order),
  CONSTRAINT wp_tide_of FOREIGN KEY (tide_order) REFERENCES wp_tide_orders (id) ON DELETE CASCADE
);
CREATE TABLE wp_tide_counts (n INT);
INSERT INTO wp_tide_counts VALUES (0);
CREATE TRIGGER wp_tide_counted AFTER INSERT ON wp_tide_lines FOR EACH ROW
  UPDATE wp_tide_counts SET n = n + 1;
CREATE VIEW wp_a_view AS SELECT 1 AS one;
CREATE VIEW wp_tide_large AS SELECT id, amount FROM wp_tide_orders WHERE amount > 10;
CREATE OR REPLACE VIEW wp_a_view AS SELECT id FROM wp_tide_large;
SET sql_mode = 'NO_AUTO_VALUE_ON_ZERO';
INSERT INTO wp_tide_orders (id, amount, note, seal)
  VALUES (0, 5, 'a; -- next\n', x'00FF27'), (7, 50, NULL, NULL);
INSERT INTO wp_tide_lines (tide_order) VALUES (0), (7);
"""
_TOLD = """
SHOW CREATE TABLE wp_tide_orders; SHOW CREATE TABLE wp_tide_lines;
SELECT id, amount, twice, note, hex(seal), at FROM wp_tide_orders ORDER BY id;
SELECT * FROM wp_tide_lines; SELECT n FROM wp_tide_counts;
SELECT * FROM wp_tide_large; SELECT * FROM wp_a_view;
SELECT trigger_name, event_object_table, action_statement FROM information_schema.triggers;
SHOW FULL TABLES;
"""
_RUINED = """
DROP VIEW wp_a_view; DROP VIEW wp_tide_large; CREATE VIEW wp_later AS SELECT 1;
DROP TRIGGER wp_tide_counted; ALTER TABLE wp_tide_lines DROP FOREIGN KEY wp_tide_of;
DELETE FROM wp_tide_orders; CREATE TABLE wp_newer (id INT);
"""
_GONE = """
DROP VIEW IF EXISTS wp_a_view, wp_tide_large; DROP TABLE IF EXISTS wp_tide_lines, wp_tide_orders,
wp_tide_counts;
"""


class Database(WithReal):
    def test_all_that_a_plugin_may_have_made_in_it_comes_back(self) -> None:
        agent = self.linked()
        self.sql(_MADE)
        self.addCleanup(self.sql, _GONE)
        before = self.told()
        for kind in ("wp_tide_of` FOREIGN KEY", "wp_tide_counted", "wp_a_view\tVIEW", "00FF27"):
            self.assertIn(kind, before)
        made = self.done(agent, "snapshot", "c-40-a")
        self.assertEqual(self.told(), before)
        for n, spoil in enumerate(("", _RUINED)):
            self.sql(spoil or "SELECT 1")
            back = self.done(agent, "restore", f"c-40-b{n}", snapshot=made["snapshot"])
            self.assertEqual(back["left"], [])
            self.assertEqual(self.told(), before)
        self.sql("INSERT INTO wp_tide_lines (tide_order) VALUES (7)")
        self.assertEqual(self.sql("SELECT n FROM wp_tide_counts").split()[-1], "3")
        self.sql("DELETE FROM wp_tide_orders WHERE id = 7")
        self.assertEqual(self.sql("SELECT count(*) FROM wp_tide_lines").split()[-1], "1")

    def test_a_view_that_looks_at_nothing_keeps_nobody_from_a_restore(self) -> None:
        agent = self.linked()
        self.sql("CREATE TABLE wp_was (id INT); CREATE VIEW wp_blind AS SELECT * FROM wp_was")
        self.sql("DROP TABLE wp_was")
        self.addCleanup(self.sql, "DROP VIEW IF EXISTS wp_blind")
        made = self.done(agent, "snapshot", "c-41-a")
        back = self.done(agent, "restore", "c-41-b", snapshot=made["snapshot"])
        self.assertEqual(back["left"], [])
        self.assertIn("wp_blind\tVIEW", self.sql("SHOW FULL TABLES"))
        self.assertEqual(sites.refresh(self.context, SITE).link.state, "linked")

    def told(self) -> str:
        """All that the database says of what was made."""
        return self.sql(_TOLD)
