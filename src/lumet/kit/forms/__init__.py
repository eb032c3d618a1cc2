"""Forms and their fields: what a generated table module builds its form from."""

# each module says in its __all__ what it offers
from . import rules as rules
from .base import *
from .date_fields import *
from .fields import *
from .file_fields import *
from .number_fields import *
from .rules import *
from .validators import *
