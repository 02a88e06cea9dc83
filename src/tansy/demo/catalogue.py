"""Who Hollowmere is: its centres and what they sell. Everything here is invented."""

from __future__ import annotations

from dataclasses import dataclass

REGIONS: dict[str, tuple[int, tuple[str, ...]]] = {
    # region: (weeks that spring comes later than in Vale, centres)
    "North Fells": (3, ("Brackenbeck", "Larkgarth", "Stonetarn", "Mistlegill", "Cinderhow")),
    "Vale": (0, ("Plumbrook", "Wrencote", "Merlewater", "Eldermead", "Goosefold")),
    "Coast": (-1, ("Seahollow", "Quaymarsh", "Gullhythe", "Saltreed", "Dunepool")),
    "Downs": (-1, ("Chalkover", "Harebank", "Skylinch", "Foxdene Rise")),
    "Marches": (1, ("Marchwell Cross", "Hopyard End", "Cideroak", "Whinfold", "Ashmere Lea")),
}


@dataclass(frozen=True)
class Group:
    """A product group. peaks: (ISO week of the peak, width in weeks, height over the base). base: lowest share of the
    usual volume; 0 for what is sold in season only. volume: usual units a week of a middling product in a middling
    centre. price: of the middling product. weather: how strongly warm dry weeks lift it. elasticity: of price."""

    name: str
    department: str
    peaks: tuple[tuple[float, float, float], ...]
    base: float
    volume: float
    price: float
    weather: float
    elasticity: float
    variants: tuple[str, ...]


_SIZES = ("9 cm", "1 litre", "2 litre", "3 litre", "5 litre", "tray of 6", "large")
_SACKS = ("10 litre", "20 litre", "40 litre", "50 litre", "60 litre", "bulk bag", "twin pack")
_MAKES = ("plain", "classic", "heavy duty", "compact", "premium", "starter", "gift set")

GROUPS: tuple[Group, ...] = (
    Group("Lavender", "Perennials", ((25, 6, 1.6),), 0.15, 9.0, 6.5, 0.25, -1.6, _SIZES),
    Group("Salvia", "Perennials", ((23, 6, 1.4),), 0.12, 6.0, 6.0, 0.25, -1.5, _SIZES),
    Group("Hostas", "Perennials", ((21, 5, 1.5),), 0.06, 5.0, 8.0, 0.2, -1.4, _SIZES),
    Group("Pansies", "Bedding", ((14, 4, 1.3), (41, 4, 1.5)), 0.15, 14.0, 3.5, 0.3, -1.8, _SIZES),
    Group("Petunias", "Bedding", ((21, 3.5, 2.6),), 0.0, 16.0, 3.2, 0.45, -1.9, _SIZES),
    Group("Geraniums", "Bedding", ((22, 4, 2.2),), 0.02, 12.0, 4.0, 0.4, -1.7, _SIZES),
    Group("Peat-free compost", "Soil & mulch", ((17, 5, 1.7), (39, 4, 0.3)), 0.3, 24.0, 8.5, 0.35, -1.5, _SACKS),
    Group("Bark chip", "Soil & mulch", ((15, 5, 1.2), (43, 5, 0.6)), 0.35, 10.0, 9.5, 0.2, -1.2, _SACKS),
    Group("Gravel", "Soil & mulch", ((20, 8, 0.8),), 0.45, 5.0, 7.0, 0.15, -1.0, _SACKS),
    Group("Bird feed", "Wildlife", ((2, 8, 0.7), (48, 7, 0.6)), 0.6, 18.0, 11.0, -0.1, -1.3, _SACKS),
    Group("Nest boxes", "Wildlife", ((9, 4, 1.6), (50, 2, 0.8)), 0.2, 2.0, 16.0, 0.0, -1.1, _MAKES),
    Group("Hand tools", "Tools", ((16, 7, 0.8), (50, 2, 0.9)), 0.5, 3.0, 18.0, 0.1, -1.2, _MAKES),
    Group("Watering", "Tools", ((26, 7, 1.5),), 0.2, 5.0, 14.0, 0.55, -1.1, _MAKES),
    Group("Gloves", "Tools", ((15, 8, 0.6), (49, 3, 0.8)), 0.55, 4.0, 7.5, 0.1, -1.4, _MAKES),
    Group("Clay pots", "Pots & planters", ((19, 6, 1.1),), 0.35, 6.0, 9.0, 0.2, -1.3, _SIZES),
    Group("Planters", "Pots & planters", ((19, 6, 1.0),), 0.4, 2.2, 32.0, 0.2, -1.4, _MAKES),
    Group("Baskets", "Pots & planters", ((20, 4, 2.0),), 0.1, 4.0, 15.0, 0.3, -1.5, _MAKES),
    Group("Wreaths", "Winter & festive", ((49, 2.2, 6.0),), 0.0, 7.0, 17.0, 0.0, -1.2, _MAKES),
    Group(
        "Fleece & covers",
        "Winter & festive",
        ((45, 4, 1.8), (14, 3, 0.7)),
        0.08,
        3.5,
        9.0,
        -0.35,
        -0.9,
        _MAKES,
    ),
    Group("Festive lights", "Winter & festive", ((48, 3, 4.0),), 0.0, 6.0, 22.0, 0.0, -1.5, _MAKES),
)
