"""Fuels: stoichiometry, blends, octane."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

from yarvic.core.errors import UnitError
from yarvic.core.physics import Value
from yarvic.core.physics.constants import (
    ETHANOL_DENSITY,
    ETHANOL_MOLAR_MASS,
    ETHANOL_RON,
    PETROL_MOLAR_MASS,
    STOICHIOMETRY,
)


@dataclass(frozen=True, slots=True)
class Fuel:
    """A fuel: stoichiometric ratio by mass, lower heating value J/kg, density kg/m3, RON, latent heat J/kg."""

    title: str
    stoichiometric_afr: float
    lower_heating_value: float
    density: float
    ron: float
    latent_heat: float


def stoichiometric_afr(hydrogen: Value, oxygen: Value = 0.0) -> Value:
    """Stoichiometric air-fuel ratio by mass of a fuel C H_y O_z. Heywood (1988), eq. 3.6."""
    air, carbon, h, o = STOICHIOMETRY
    return air * (4.0 + hydrogen - 2.0 * oxygen) / (carbon + h * hydrogen + o * oxygen)


@cache
def fuels() -> dict[str, Fuel]:
    """All fuels of data/fuels.toml by their key."""
    text = files("yarvic.core.physics").joinpath("data/fuels.toml").read_text("utf-8")
    return {
        key: Fuel(
            d["title"],
            float(stoichiometric_afr(d["hydrogen"], d["oxygen"])),
            d["lower_heating_value"],
            d["density"],
            d["ron"],
            d["latent_heat"],
        )
        for key, d in tomllib.loads(text).items()
    }


def fuel(key: str) -> Fuel:
    """The fuel with this key, or `petrol-95+e30` for a blend by volume. Raises UnitError for an unknown one."""
    base, _, share = key.partition("+e")
    if base not in fuels():
        raise UnitError(f"fuel {base!r} is unknown", remedy=f"Use one of: {', '.join(fuels())}.")
    if not share:
        return fuels()[base]
    if not share.isdigit() or not 0 <= int(share) <= 100:
        raise UnitError(f"{key!r} is not a blend", remedy="Write for example petrol-95+e30.")
    return ethanol_blend(fuels()[base], int(share) / 100.0)


def ethanol_share(key: str) -> float | None:
    """Share of ethanol by volume in a petrol, a blend or ethanol itself; None for another fuel."""
    base, _, share = key.partition("+e")
    if base == "ethanol":
        return 1.0
    return (int(share) / 100.0 if share else 0.0) if base.startswith("petrol") else None


def blend_ron(base_ron: Value, ethanol_volume_fraction: Value, base_density: float = 745.0) -> Value:
    """RON of an ethanol blend: linear in mole fraction. Anderson et al., Energy & Fuels 24 (2010) 6576."""
    ethanol_mol = ethanol_volume_fraction * ETHANOL_DENSITY / ETHANOL_MOLAR_MASS
    base_mol = (1.0 - ethanol_volume_fraction) * base_density / PETROL_MOLAR_MASS
    share = ethanol_mol / (ethanol_mol + base_mol)
    return base_ron * (1.0 - share) + ETHANOL_RON * share


def ethanol_blend(base: Fuel, volume_fraction: float) -> Fuel:
    """The blend of a petrol with ethanol: mass-weighted, octane by mole fraction."""
    ethanol = fuels()["ethanol"]
    mass_e = volume_fraction * ethanol.density
    mass_b = (1.0 - volume_fraction) * base.density
    x = mass_e / (mass_e + mass_b)
    return Fuel(
        f"{base.title} with E{volume_fraction * 100:.0f}",
        base.stoichiometric_afr * (1.0 - x) + ethanol.stoichiometric_afr * x,
        base.lower_heating_value * (1.0 - x) + ethanol.lower_heating_value * x,
        mass_e + mass_b,
        float(blend_ron(base.ron, volume_fraction, base.density)),
        base.latent_heat * (1.0 - x) + ethanol.latent_heat * x,
    )
