# Conversions between the units of the ropeway. Read in with:  . "${UNIT_SCALE%%:*}/units.sh"
units_version="1.1.0"

# Metres a second, in tenths, to kilometres an hour, rounded down.
kmh() { echo $(( $1 * 36 / 100 )); }

# The same, rounded up: for limits that must not be passed.
kmh_up() { echo $(( ($1 * 36 + 99) / 100 )); }
