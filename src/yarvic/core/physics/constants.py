"""Physical constants and the coefficients of published correlations, each with its source."""

from typing import Final

STANDARD_PRESSURE_PA: Final = 101325.0  # ICAO Doc 7488, ISA at sea level
R_DRY_AIR: Final = 287.042  # J/(kg K), ASHRAE Handbook Fundamentals 2017 ch. 1
CP_AIR: Final = 1005.0  # J/(kg K) at 300 K, Incropera, Fundamentals of Heat and Mass Transfer, table A.4: 1007
GAMMA_AIR: Final = 1.400  # diatomic ideal gas
CP_EXHAUST: Final = (
    1180.0  # J/(kg K) near 1100 K, combustion products; from memory, Heywood fig. 4-17 shows 1.15-1.25
)
GAMMA_EXHAUST: Final = 1.33  # from memory, Heywood ch. 4: about 1.3 burned gas
GAMMA_UNBURNED: Final = 1.32  # polytropic exponent of compression, Heywood ch. 9: 1.3 +/- 0.05

# ISA troposphere, ICAO Doc 7488: p = p0 (1 - a h)^n
ISA_LAPSE_PER_M: Final = 2.25577e-5
ISA_EXPONENT: Final = 5.25588

# Wiebe burn function, Heywood, Internal Combustion Engine Fundamentals (1988), eq. 9.27: a = 5, m = 2
WIEBE_A: Final = 5.0
WIEBE_M: Final = 2.0

# Total friction mean effective pressure, Barnes-Moss in Heywood eq. 13.6: bar, N in 1000 rpm
FRICTION_BAR: Final = (0.97, 0.15, 0.05)

# Torque against distance from best spark: share lost per square degree. From memory: 5-6 % at 10 degrees.
SPARK_LOSS_PER_DEG2: Final = 5.5e-4
# Crank angle of 50 % burned at best torque, degrees after top centre; from memory, trade: 8-10.
CA50_BEST_DEG: Final = 8.5

# Torque against lambda: best at 0.89, within 1.5 % from 0.84 to 0.95. From memory.
LAMBDA_BEST_TORQUE: Final = 0.89
LAMBDA_LOSS: Final = 3.2
# Share of the fuel's energy released when rich, per unit of lambda below 1: Heywood fig. 3-9 falls to about 0.78
# at lambda 0.85.
RICH_RELEASE_SLOPE: Final = 1.45

# Air flow at full throttle against intake temperature: eta_v ~ T^0.5, Heywood (1988), eq. 2.12 and section 6.2.3: hot
# air takes less heat from the walls, so that air and torque go as T^-0.5 and not as density.
CHARGE_HEATING_EXPONENT: Final = 0.5
# Heat to the walls goes as the flow to 0.75 (Taylor and Toong, in Heywood (1988), ch. 12; from memory), so that its share
# of the fuel's energy goes as flow to -0.25.
WALL_HEAT_EXPONENT: Final = 0.75
# Heat of a gas to its pipe goes as the flow to 0.8 (Dittus and Boelter), the gas's own heat as the flow.
PIPE_HEAT_EXPONENT: Final = 0.8

# Douaud and Eyzat, SAE paper 780080: tau[ms] = A (ON/100)^B p[atm]^C exp(D/T)
KNOCK_DELAY: Final = (17.68, 3.402, -1.7, 3800.0)
# Transverse acoustic modes of a cylinder, Draper (NACA report 493): roots of the Bessel derivative J'
DRAPER_ROOTS: Final = (1.841, 3.054, 3.832)
SOUND_SPEED_BURNED: Final = 950.0  # m/s in burned gas near 2500 K, the usual value with Draper's equation

# Stoichiometric combustion with air, Heywood eq. 3.6: A/F = 34.56 (4 + y - 2z) / (12.011 + 1.008 y + 15.999 z)
STOICHIOMETRY: Final = (34.56, 12.011, 1.008, 15.999)
# Ethanol octane blending, Anderson et al., Energy & Fuels 24 (2010) 6576
ETHANOL_RON: Final = 108.6
ETHANOL_MOLAR_MASS: Final = 46.069  # g/mol
ETHANOL_DENSITY: Final = 789.0  # kg/m3 at 20 degC, CRC Handbook
PETROL_MOLAR_MASS: Final = 106.0  # g/mol, as used by Anderson et al.

GRAVITY: Final = 9.80665  # m/s2, standard acceleration of free fall, CGPM 1901
R_MOLAR: Final = 8.3143  # J/(mol K), as used with the correlation of Hardenberg and Hase in Heywood ch. 10

# Hardenberg and Hase, Heywood (1988), eqs. 10.37 and 10.38:
# tau[deg] = (0.36 + 0.22 S_p) exp[E_A (1/(R T) - 1/17190) (21.2/(p - 12.4))^0.63], E_A = 618840/(CN + 25); p in bar
HARDENBERG: Final = (0.36, 0.22, 618840.0, 25.0, 17190.0, 21.2, 12.4, 0.63)
# Lambda above which a diesel's efficiency no longer depends on it; from memory.
LEAN_ENOUGH_DIESEL: Final = 1.8
