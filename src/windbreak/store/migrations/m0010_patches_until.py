"""Patch releases go until a day: what was approved with them before gets two weeks from then."""

STEPS = (
    "UPDATE plan SET body = json_set(body, '$.approval.patches_until', "
    "date(json_extract(body, '$.approval.at'), '+14 days')) "
    "WHERE json_extract(body, '$.approval.patches') = 1",
    "UPDATE plan SET body = json_remove(body, '$.approval.patches') "
    "WHERE json_extract(body, '$.approval.patches') IS NOT NULL",
    "UPDATE rollout SET body = json_set(body, '$.patches_until', "
    "date(json_extract(body, '$.made_at'), '+14 days')) WHERE json_extract(body, '$.patches') = 1",
    "UPDATE rollout SET body = json_remove(body, '$.patches') "
    "WHERE json_extract(body, '$.patches') IS NOT NULL",
)
