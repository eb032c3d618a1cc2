"""The operators of filters, and those that go together."""

IS, FROM, TO, WITHIN = "is", "from", "to", "within"
HAS, BEGINS, EMPTY, FILLED = "has", "begins", "empty", "filled"

OF_PRESENCE = (EMPTY, FILLED)
OF_CHOICES = (IS, *OF_PRESENCE)
OF_NUMBERS = (FROM, TO, *OF_PRESENCE)
OF_DATES = (FROM, TO, WITHIN, *OF_PRESENCE)
OF_TEXTS = (HAS, BEGINS, IS, *OF_PRESENCE)
