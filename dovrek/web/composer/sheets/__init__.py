"""Kinds of contact sheet, one file each. To add one, write its file and name it in SHEETS: the
composer's buttons and the orders of sheets follow."""

from dovrek.web.composer.sheets.frames import Sheet
from dovrek.web.composer.sheets.hours import HOURS
from dovrek.web.composer.sheets.recipes import RECIPES
from dovrek.web.composer.sheets.seeds import SEEDS

SHEETS: dict[str, Sheet] = {"hours": HOURS, "seeds": SEEDS, "recipes": RECIPES}
