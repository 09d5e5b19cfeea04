"""Whether a far end can report what ``guard.needs`` requires."""

from __future__ import annotations

from collections.abc import Iterator

from tenuto.basics.findings import Finding, error, unexpected
from tenuto.profile.schema import Tables


def needs_errors(profile: Tables) -> Iterator[Finding]:
    """List the needs that no sink of the profile can report, and those that cannot be met."""
    needs = profile.guard.needs
    plan = needs.plan()
    if plan.height_from >= plan.height_below:
        expected = f"less than guard.needs.height_below ({plan.height_below:g} m)"
        yield unexpected("guard.needs.height_from", expected, f"{plan.height_from:g} m")
    able = {name: sink for name, sink in profile.sinks.items() if sink.says}
    says = frozenset[str]().union(*(sink.says for sink in able.values()))
    # Without a sink in the profile, the one of --to is checked when the drive begins.
    if profile.sinks and plan.wanted and (unsaid := plan.unsaid(says) if able else list(plan.wanted)):
        for key in unsaid if "answers" not in unsaid or needs.answers else [key for key in unsaid if key != "answers"]:
            text = "no sink of this profile can report that"
            yield error(f"guard.needs.{_KEYS.get(key, key)}", text, "add one that answers, or remove this")
    for mode in plan.modes:
        known = [name for sink in able.values() for name in sink.mode_names]
        if known and mode not in known:
            yield unexpected("guard.needs.mode", f"a mode of a sink: {', '.join(known)}", f'"{mode}"')


_KEYS = {"modes": "mode"}
