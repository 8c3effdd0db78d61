"""Keys that sign for this service and for its agents, turned without a gap.

A new key is announced to each agent under the old one; the agent answers with a new key of its own.
From then on both sign with the new ones there, and the old ones are let go when the new were used.
A site that does not answer stays with the old keys until it does. When every linked site has been
turned, the new key is this service's own.
"""

from __future__ import annotations

import json

from windbreak.core.values.tasks import Subject
from windbreak.links import signing
from windbreak.links.errors import LinkError
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.sites import sites


def begin(context: Context) -> None:
    """Make the key that is to come, where none is coming yet. Writes."""
    if context.store.secrets.get(instance.COMING_KEY) is None:
        text = signing.key_text(signing.new_key())
        with context.store.transaction():
            context.store.secrets.set(instance.COMING_KEY, context.sealer.seal(text))
            context.store.facts.set(instance.TURNED, "[]")


def pending(context: Context) -> bool:
    """Whether keys are being turned. Reads."""
    return context.store.secrets.get(instance.COMING_KEY) is not None


def turn(context: Context, site_id: str) -> Subject:
    """Turn the keys of one site, where that was not done yet. Writes. Never raises for the site."""
    site = context.store.sites.get(site_id)
    coming = instance.coming_key(context)
    if coming is None or site_id in instance.turned(context):
        return Subject(site=site_id, text="its keys are new")
    if "rotate" not in site.link.agent_can:
        older = f"its agent {site.link.agent_version or ''} can't turn keys: update it".strip()
        return Subject(site=site_id, text=older, well=False)
    try:
        agent = sites.agent_for(context, site_id)
        public = agent.rotate(signing.public_text(coming))
        signing.public_from(public)
    except (LinkError, Refused, signing.SignatureRefused) as error:
        return Subject(site=site_id, text=f"not yet: {error}", well=False)
    bound = context.store.agents.key(site_id)
    assert bound is not None  # its agent answered under it
    with context.store.transaction():
        context.store.agents.set_key(site_id, bound[0], public)
        if pending(context):  # else another thread turned the last one meanwhile
            turned = sorted({*instance.turned(context), site_id})
            context.store.facts.set(instance.TURNED, json.dumps(turned))
        context.record("Windbreak", f"keys of {site.label} turned", site_id)
    finish(context)
    return Subject(site=site_id, text="its keys are new")


def finish(context: Context) -> None:
    """Make the coming key this service's own, once no linked site needs the old. Writes."""
    with context.store.transaction():
        sealed = context.store.secrets.get(instance.COMING_KEY)
        linked = {s.id for s in context.store.sites.live() if context.store.agents.key(s.id)}
        if sealed is not None and linked <= instance.turned(context):
            context.store.secrets.set(instance.OWN_KEY, sealed)
            context.store.secrets.drop(instance.COMING_KEY)
            context.store.facts.set(instance.TURNED, "[]")
            context.record("Windbreak", "this service's key is a new one", "instance")
