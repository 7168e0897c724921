"""Why rows are set aside, in the words of the account."""

DETAIL = "detail of page rows"
INCOMPLETE, INCOMPLETE_MONTH, INCOMPLETE_PERIOD = "incomplete day", "incomplete month", "incomplete period"
#: beginning of the reason for rows of a surface that does not count toward pages
OTHER_SURFACE = "other surface: "
PAGELESS = "totals that name no page"
NESTED = "part of a longer period"
