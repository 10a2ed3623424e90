"""The policy of a site, checked."""

from collections.abc import Sequence

from msgspec.structs import asdict

from ovek.app.audit import unused, used_waivers
from ovek.app.devices import Devices, releases_of, site_context
from ovek.app.marking import mark_changes
from ovek.app.means import Bar
from ovek.app.policy import check_policy
from ovek.app.selection import now_of
from ovek.files.site import Site
from ovek.model.results.sheets import MarkedWaiver, PolicyCheck, WaiverMark
from ovek.model.waiver import Waiver


def policy_check(site: Site, *, bar: Bar | None = None) -> PolicyCheck:
    """A policy that is sound, with its waivers marked. Raises ManyInputError where it is not.

    >>> from ovek import open_site, policy_check
    >>> policy_check(open_site("skerrow-ferries")).policy.target
    'recommended'
    """
    check_policy(site, releases_of(site), strict=True)
    mark_changes(site)
    idle = _idle(site, bar)
    return PolicyCheck(
        **asdict(site_context(site)),
        policy=site.policy,
        waivers=[MarkedWaiver(**asdict(one), mark=_mark(site, one, idle)) for one in site.waivers],
        fleet=site.fleet,
    )


def _mark(site: Site, waiver: Waiver, idle: Sequence[Waiver]) -> WaiverMark | None:
    """What is wrong with a waiver: it is over, or no device has what it is for."""
    if waiver.until < now_of(site).date():
        return "expired"
    return "unused" if waiver in idle else None


def _idle(site: Site, bar: Bar | None) -> Sequence[Waiver]:
    """The waivers that no device needs by its latest reading."""
    if not site.waivers:
        return ()
    devices = Devices(site, site.state(), releases=releases_of(site), bar=bar)
    return unused(devices, used_waivers(devices, now_of(site))) if devices.names else ()
