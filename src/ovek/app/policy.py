"""What is wanted of the devices of a site, held against what there is."""

from ovek.app.devices import Devices
from ovek.app.packages import load_rules
from ovek.engine.policy import PolicyMistake, policy_mistakes, waiver_mistakes
from ovek.engine.releases import ReleaseIndex
from ovek.engine.rules.every import RULES
from ovek.engine.wanted import ContradictionError, Wants
from ovek.files.errors import InputError, ManyInputError
from ovek.files.site import Site


def wants_of(devices: Devices) -> Wants:
    """What the policy of a site wants of its devices."""
    return Wants(devices.site.policy, devices.roles)


def contradiction(site: Site, error: ContradictionError) -> InputError:
    """The error that the policy says different things of one device."""
    do = "Set it once, or in a [[want]] for this device alone"
    return InputError(site.folder / "policy.toml", str(error), do, key="want")


def check_policy(site: Site, releases: ReleaseIndex, *, strict: bool = False) -> None:
    """Hold the policy and the waivers against what there is; raise ManyInputError.

    A target that no catalog lists costs only the devices that want it: it is a mistake where
    `strict`.
    """
    load_rules()
    errors: list[InputError] = []
    found: dict[str, list[PolicyMistake]] = {}
    try:
        sheets = site.sheet_names
        found["policy.toml"] = [
            each
            for each in policy_mistakes(site.policy, site.fleet_file, sheets, releases, RULES)
            if strict or not each.unlisted
        ]
    except ManyInputError as several:
        errors += several.errors
    try:
        found["waivers.toml"] = list(waiver_mistakes(site.waivers, site.fleet_file, RULES))
    except ManyInputError as several:
        errors += several.errors
    for name, mistakes in found.items():
        file = site.folder / name
        errors += [InputError(file, one.met, one.do, key=one.key) for one in mistakes]
    if errors:
        raise ManyInputError(errors)
