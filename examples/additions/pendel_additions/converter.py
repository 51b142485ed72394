"""A line regulator as an averaged ratio; at a level of its own, `warm`, its resistance follows its temperature.

C·dϑ/dt = R·i² − ϑ/R_th with ϑ above ambient, R = R_20·(1 + α·ϑ).
"""

from pendel.core.catalogue.declare import DRIVE_LEVEL, Choice, Link, Part, Port, Signal, State, Value
from pendel.core.equations.context import PartContext


def build(c: PartContext) -> None:
    u_in, i_in = c.pair("dc")
    u_out, i_out = c.pair("out")
    ratio = c.value("ratio")
    warm = c.level == "warm"
    if warm:
        temperature, slope = c.state("theta")
        resistance = c.value("R") * (1 + c.value("alpha") * temperature)
    else:
        resistance = c.value("R")
    loss = resistance * i_out * i_out
    c.equation(u_out - (ratio * u_in + resistance * i_out))
    c.equation(i_in + ratio * i_out)
    if warm:
        c.equation(c.value("C_th") * slope - (loss - temperature / c.value("R_th")))
        c.signal("temperature", temperature)
    c.signal("output_voltage", u_out)
    c.signal("loss", loss)
    c.lost(loss)


KIND = Part(
    id="line_regulator",
    title="Line regulator",
    sentence="A fixed ratio behind a resistance that may warm up.",
    group="converter",
    ports=(Port("dc", Link.DC, "Supply", "left"), Port("out", Link.DC, "Output", "right")),
    choices=(
        Choice("level", "Level of detail", ((DRIVE_LEVEL, "as the drive"), ("averaged", "averaged"), ("warm", "warm"))),
    ),
    levels=("averaged", "warm"),
    values=(
        Value("ratio", "Ratio", "", "0.5", low=0.0),
        Value("R", "Resistance at ambient", "Ω", "0.1", low=0.0),
        Value("alpha", "Rise of resistance", "1/K", "0.004", levels=("warm",)),
        Value("C_th", "Heat capacity", "J/K", "2", low=0.0, open_low=True, levels=("warm",)),
        Value("R_th", "Thermal resistance", "K/W", "5", low=0.0, open_low=True, levels=("warm",)),
    ),
    states=(State("theta", "temperature above ambient", "K"),),
    signals=(
        Signal("output_voltage", "output voltage", "V"),
        Signal("loss", "loss", "W"),
        Signal("temperature", "temperature above ambient", "K", ("warm",)),
    ),
    build=build,
    main_signal="output_voltage",
    spine="≡",
)
