"""Following a renamed column: only what names it changes, and only a person's lines."""

import unittest

from lumet.design.renaming import Renamed, follow

TEXT = """# tel stays in a comment
title = "{name} ({tel})"   # the tel
where = "tel IS NOT NULL AND hotel <> 'tel.'"
[list]
columns = ["tel", 'name', "hotel"]
order = ["-tel"]
[sections]
"tel" = ["tel", "name"]
[field.tel]  #~
#~ label = "Tel"
help = "tel, with its code"
[field.hotel]  #~
#~ label = "tel"
[field.supervisor_tel]
references = "keeper.tel"
[details]
keeper = { by = "tel", label = "tel" }
"""
EXPECTED = """# tel stays in a comment
title = "{name} ({phone_no})"   # the tel
where = "phone_no IS NOT NULL AND hotel <> 'tel.'"
[list]
columns = ["phone_no", 'name', "hotel"]
order = ["-phone_no"]
[sections]
"tel" = ["phone_no", "name"]
[field.phone_no]  #~
#~ label = "Tel"
help = "tel, with its code"
[field.hotel]  #~
#~ label = "tel"
[field.supervisor_tel]
references = "keeper.phone_no"
[details]
keeper = { by = "phone_no", label = "tel" }
"""


class FollowTest(unittest.TestCase):
    def test_only_what_names_the_column_changes(self) -> None:
        renamed = Renamed("keeper", "tel", "phone_no")
        text, changed = follow(TEXT, "keeper", renamed)
        self.assertEqual(text, EXPECTED)
        self.assertEqual([line.line for line in changed], [2, 3, 5, 6, 8, 9, 15, 17])
        self.assertEqual(follow(EXPECTED, "keeper", renamed), (EXPECTED, []))

    def test_files_of_others_and_patterns(self) -> None:
        renamed = Renamed("keeper", "tel", "phone")
        other = 'title = "{tel}"\n[details]\nkeeper = { by = ["tel"] }\n'
        text, _ = follow(other, "station", renamed)
        self.assertEqual(text, other.replace('["tel"]', '["phone"]'))
        pattern = (
            '[field."keeper.tel"]\nhidden = true\n[field."*.tel"]\nhidden = false\n'
        )
        text, _ = follow(pattern, "", renamed)
        self.assertEqual(text, pattern.replace("keeper.tel", "keeper.phone"))
