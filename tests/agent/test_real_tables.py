"""A database of a real site written out and made anew: also what is no plain table."""

from __future__ import annotations

from tests.agent.test_real import SITE, WithReal
from windbreak.links.errors import CallFailed
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

# Values of every kind that are easily written wrongly.
_VALUES = r"""
CREATE TABLE wp_tide_values (
  id INT PRIMARY KEY, flags BIT(10), sure BIT(1), near FLOAT, far DOUBLE, price DECIMAL(20,6),
  kind ENUM('ebb', 'flood''s'), days SET('mon', 'tue'), day DATE, hour TIME, stamp DATETIME(6),
  fixed BINARY(4), loose VARBINARY(20), old VARCHAR(20) CHARACTER SET latin1,
  words TEXT CHARACTER SET utf8mb4, large LONGBLOB
);
INSERT INTO wp_tide_values VALUES
  (1, b'1000000101', b'1', 0.1, 0.1, 12345678901234.123456, 'flood''s', 'mon,tue', '2026-03-29',
   '-12:30:01', '2026-10-25 01:30:00.123456', x'00', x'5C27221A0A0D00', 'caf\u00e9', 'NULL', ''),
  (2, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
  (3, 0, 0, -1e30, 1.7976931348623157e308, -0.000001, '', '', '0000-00-00', '00:00:00', NULL,
   x'FFFFFFFF', x'C328', '\\''"', 'a\\b''c"d\n-- next\n\u00e9 \u6f6e', x'FF');
INSERT INTO wp_tide_values (id, large)
  SELECT 10 + seq, REPEAT(x'27005C61', 150000) FROM seq_1_to_40;
"""
_VALUES_TOLD = """
SELECT id, HEX(flags), HEX(sure), near, far, price, HEX(kind), days, day, hour, stamp,
  HEX(fixed), HEX(loose), HEX(old), HEX(words), MD5(large), LENGTH(large)
FROM wp_tide_values ORDER BY id
"""


class Database(WithReal):
    def test_values_of_every_kind_come_back_and_more_of_them_than_one_statement_may_hold(
        self,
    ) -> None:
        agent = self.linked()
        # Forty values of 600 kB are 24 MB, and a statement may be of 16.
        self.assertLess(int(self.sql("SELECT @@max_allowed_packet").split()[-1]), 24_000_000)
        self.sql(f"SET sql_mode = ''; SET NAMES utf8mb4; {_VALUES}")
        self.addCleanup(self.sql, "DROP TABLE IF EXISTS wp_tide_values")
        before = self.sql(_VALUES_TOLD)
        self.assertIn("205\t1\t0.1", before)
        made = self.done(agent, "snapshot", "c-42-a")
        self.sql("DROP TABLE wp_tide_values")
        back = self.done(agent, "restore", "c-42-b", snapshot=made["snapshot"])
        self.assertEqual(back["left"], [])
        self.assertEqual(self.sql(_VALUES_TOLD), before)

    def test_a_value_larger_than_the_database_lets_be_asked_for_makes_no_snapshot(self) -> None:
        agent = self.linked()
        self.sql("CREATE TABLE wp_tide_large_value (words LONGBLOB)")
        self.addCleanup(self.sql, "DROP TABLE IF EXISTS wp_tide_large_value")
        self.sql("INSERT INTO wp_tide_large_value VALUES (REPEAT(x'27', 9000000))")  # quoted, twice
        with self.assertRaisesRegex(CallFailed, "wp_tide_large_value is larger .*max_allowed"):
            self.done(agent, "snapshot", "c-43-a")
        self.sql("UPDATE wp_tide_large_value SET words = REPEAT('a', 9000000)")
        made = self.done(agent, "snapshot", "c-43-b")
        self.sql("UPDATE wp_tide_large_value SET words = ''")
        self.done(agent, "restore", "c-43-c", snapshot=made["snapshot"])
        told = self.sql("SELECT LENGTH(words) FROM wp_tide_large_value").split()
        self.assertEqual(told[-1], "9000000")

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
