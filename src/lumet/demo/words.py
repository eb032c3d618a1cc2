"""The words of the scenario: places, people, things. All invented."""

import random

DISTRICTS = [
    ("NR", "North Reach", "Varholm", "+00 555 100 10"),
    ("SF", "Saltfen", "Saltfen Quay", "+00 555 100 20"),
    ("GM", "Grey Maidens", "Maiden Harbour", "+00 555 100 30"),
    ("OW", "Outer Wick", "Wickhaven", "+00 555 100 40"),
    ("TS", "Tern Sound", "Ternby", "+00 555 100 50"),
    ("LB", "Long Bank", "Bankfoot", None),
    ("HV", "Hollow Vik", "Hollowvik", "+00 555 100 70"),
    ("MR", "Merrow Firth", "Port Merrow", "+00 555 100 80"),
    ("SD", "Southern Drift", "Driftmouth", "+00 555 100 90"),
]
LENS_TYPES = [
    ("HR-R", "Hyper-radial", 1330),
    ("ORD1", "First order", 920),
    ("ORD2", "Second order", 700),
    ("ORD3", "Third order", 500),
    ("ORD3S", "Third order, small", 375),
    ("ORD4", "Fourth order", 250),
    ("ORD5", "Fifth order", 187),
    ("ORD6", "Sixth order", 150),
    ("BIV700", "Bivalve, large", 710),
    ("BIV500", "Bivalve, small", 510),
    ("DRUM3", "Drum, 300", 300),
    ("DRUM2", "Drum, 200", 200),
    ("RANGE", "Range lantern", 155),
    ("LEDA", "Diode array", 90),
]
LIGHT_NAMES = ["Main", "Sector", "Leading, lower", "Leading, upper", "Emergency"]
_FIRST = [
    "Grey Maiden", "Tern", "Saltpan", "Outer", "Anvil", "Lowcask", "Merrow", "Split",
    "Farne", "Bellwether", "Hollow", "Quern", "Sandglass", "Mew", "Cormorant", "Otter",
    "Widow's", "Kelp", "Lantern", "Hag", "Barrel", "Thimble", "Raven", "Cold", "Whistling",
    "Broken", "Pilot's", "Sorrel", "Needle", "Drowned",
]  # fmt: skip
_SECOND = [
    "Rock", "Holm", "Point", "Wick", "Stack", "Head", "Ness", "Island", "Spit", "Ledge",
    "Bank", "Tooth", "Pier", "Skerry", "Shoal", "Bar",
]  # fmt: skip
FIRST_NAMES = [
    "Ina", "Tove", "Rolf", "Maren", "Silas", "Petra", "Anders", "Oona", "Kaspar", "Liv",
    "Edda", "Joss", "Hanne", "Milo", "Signe", "Tamsin", "Ulf", "Vera", "Wim", "Yrsa",
]  # fmt: skip
LAST_NAMES = [
    "Solberg-Reyes", "Brandvold", "Okonjo-Lind", "Vantongeren", "Carrow", "Aldous",
    "Fennimore", "Quillfeather", "Stormby", "Haldane-Oye", "Marsk", "Tidewell", "Ekwall",
    "Pellworth", "Rooke", "Zandvliet",
]  # fmt: skip
STATION_REMARKS = [
    None,
    None,
    None,
    "Landing only at slack water; the ladder on the east side is new.",
    "The old oil store is a listed building: nothing may be fixed to its walls.",
    "Seals on the lower steps from May to July: keep to the upper path, dogs aboard.",
    "Power by cable from the harbour; the diesel is for emergencies alone.",
]
INSPECTION_REMARKS = [
    None,
    None,
    "Swell over 2 m at the landing; the lower gallery was not reached.",
    "All as it should be.",
    "Lamp changer tested twice, both positions good.",
    "Fog signal silent since spring, see findings.",
    "Batteries to be replaced before winter.",
]
FINDINGS = [
    ("lens", "Lens panel cracked"),
    ("lens", "Lens bedding loose"),
    ("lens", "Salt between the prisms"),
    ("lamp", "Lamp changer stuck"),
    ("lamp", "Flash out of rhythm"),
    ("lamp", "Spare lamp missing"),
    ("power", "Battery bank weak"),
    ("power", "Solar panel shaded by guano"),
    ("power", "Cable gland leaking"),
    ("structure", "Gallery rail loose"),
    ("structure", "Sounding pipe corroded"),
    ("structure", "Paint flaking on the day mark"),
    ("structure", "Window seal perished"),
    ("access", "Ladder rung missing"),
    ("access", "Landing steps overgrown"),
]
LOGBOOK_TEXTS = [
    "Lamp trimmed. Wind SW 5.",
    "Relief boat did not come.",
    "Fog from 0400, horn sounded.",
    "Oil delivered, 14 drums.",
    "Nothing to report.",
    "Sea over the gallery at high water; two panes cracked and boarded up.",
    "Visitors from the district office. Brass was found bright.",
]


def station_names(chance: random.Random, count: int) -> list[str]:
    """Return `count` different names of stations."""
    pairs = [f"{first} {second}" for first in _FIRST for second in _SECOND]
    return chance.sample(pairs, count)


VESSELS = (
    ("GAN", "Gannet Strand", "NR", 1987, "Y"),
    ("KIT", "Kittiwake", "SF", 2004, "Y"),
    ("PET", "Storm Petrel", "OW", 1969, "N"),
    ("SKU", "Great Skua", "TS", 2015, "Y"),
    ("TUR", "Turnstone", "MR", 1994, "Y"),
    ("WHI", "Whimbrel", "SD", 2021, "Y"),
)

PARTS = (
    "Lamp changer", "Rotation drive", "Battery bank", "Charging unit", "Fog signal head",
    "Optic carriage", "Control cabinet", "Radio beacon set", "Halogen lamp 250 W",
    "Halogen lamp 1000 W", "Lamp socket", "Lens prism, upper", "Lens prism, lower",
    "Bearing ring", "Drive belt", "Gear wheel, brass", "Worm shaft", "Brush set",
    "Battery cell 2 V", "Cell connector", "Solar panel 80 W", "Charge regulator",
    "Fuse link 10 A", "Fuse link 25 A", "Photo switch", "Flasher card", "Signal horn",
    "Membrane, steel", "Gallery pane", "Pane putty, tub", "Ventilator cowl", "Door hinge, bronze",
    "Ladder rung", "Mooring shackle", "Chain link, 38 mm", "Buoy topmark", "Zinc anode",
    "Tide staff board",
)  # fmt: skip

REPAIRS = (
    "Lamp failed to change over; changer cleaned and greased.",
    "Drive stiff in cold weather; belt replaced.",
    "Two panes cracked by ice; renewed.",
    "Battery would not hold its charge overnight.",
    "Photo switch covered with salt; washed, works again.",
    "Shackle worn to half its size; replaced with the buoy on deck.",
    "Flash irregular by night; card replaced and timed.",
    None,
    "Door would not close; hinge straightened.",
)
