"""Heat between gas and walls: charge heating, the coolant's share of the fuel's energy, an exhaust pipe."""

from __future__ import annotations

from math import exp

from yarvic.core.physics.constants import CHARGE_HEATING_EXPONENT, PIPE_HEAT_EXPONENT, WALL_HEAT_EXPONENT


def charge_heating(charge_k: float, reference_k: float) -> float:
    """Factor on volumetric efficiency for charge of another temperature than the one it was measured at.

    eta_v ~ T^0.5, Heywood (1988), eq. 2.12: air flow and torque then go as T^-0.5.
    """
    return float((charge_k / reference_k) ** CHARGE_HEATING_EXPONENT)


def coolant_share(share: float, flow_kg_s: float, reference_kg_s: float) -> float:
    """Share of the fuel's energy that goes to the coolant at an air flow, from the one at a reference flow.

    Q ~ m^0.75 (Taylor and Toong, Heywood (1988), ch. 12): the share falls with speed and with load.
    """
    return float(share * (max(flow_kg_s, 1e-6) / reference_kg_s) ** (WALL_HEAT_EXPONENT - 1.0))


def behind_pipe(gas_k: float, wall_k: float, transfer_units: float, flow_kg_s: float, reference_kg_s: float) -> float:
    """Temperature of a gas behind a pipe whose walls are at `wall_k`; `transfer_units` are those at a reference flow.

    T - T_w falls by exp(-NTU), with NTU ~ m^0.8 / m for turbulent flow (Dittus and Boelter).
    """
    ratio = max(flow_kg_s, 1e-6) / reference_kg_s
    return float(wall_k + (gas_k - wall_k) * exp(-transfer_units * ratio ** (PIPE_HEAT_EXPONENT - 1.0)))
