# Conversions between the units of the ropeway. Read in with:  . "${UNIT_SCALE%%:*}/units.sh"
units_version="1.0.0"

# Metres a second, in tenths, to kilometres an hour, rounded down.
kmh() { echo $(( $1 * 36 / 100 )); }
