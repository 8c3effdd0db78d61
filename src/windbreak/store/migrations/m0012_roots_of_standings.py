"""Standings name their roots and the acts that help; views are made anew with them."""

STEPS = (
    "DELETE FROM standing",
    "DELETE FROM row",
    "DELETE FROM product_row",
    "UPDATE newest_change SET generation = generation + 1 WHERE kind = ''",
    "INSERT INTO change SELECT generation, 'everything', '' FROM newest_change WHERE kind = ''",
    "INSERT OR REPLACE INTO newest_change SELECT 'everything', generation FROM newest_change "
    "WHERE kind = ''",
)
