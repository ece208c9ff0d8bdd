"""Writes bills of materials anew with libraries of others: bills.py FROM.cdx.json TO FROM.spdx.json TO."""

import json
import sys

from cyclonedx.model.bom import Bom
from cyclonedx.output.json import JsonV1Dot5
from spdx_tools.spdx.parser.parse_anything import parse_file
from spdx_tools.spdx.writer.write_anything import write_file

cyclonedx, rewritten, spdx, written = sys.argv[1:]
with open(cyclonedx) as file:
    bom = Bom.from_json(json.load(file))
JsonV1Dot5(bom).output_to_file(rewritten, allow_overwrite=True)
write_file(parse_file(spdx), written, validate=True)
