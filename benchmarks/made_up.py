"""What the entries of made-up sites are made of."""

LEVELS = ("possible", "probable", "confirmed")
WORDS = [
    "seal",
    "limpet",
    "dunlin",
    "tide",
    "storm",
    "kelp",
    "shore",
    "ledge",
    "marsh",
    "eelgrass",
    "count",
    "survey",
    "night",
    "pup",
    "flock",
    "wrack",
]
