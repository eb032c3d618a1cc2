"""The operators of filters, and those that go together."""

from ..contract import BEGINS, EMPTY, FILLED, FROM, HAS, IS, NOT, TO, WITHIN

OF_PRESENCE = (EMPTY, FILLED)
OF_CHOICES = (IS, NOT, *OF_PRESENCE)
OF_NUMBERS = (FROM, TO, *OF_PRESENCE)
OF_DATES = (FROM, TO, WITHIN, *OF_PRESENCE)
OF_TEXTS = (HAS, BEGINS, IS, NOT, *OF_PRESENCE)
