"""Copies an artifact out with a client that others wrote, and compares the archive with its digest.

pull.py HOST/NAME:TAG FOLDER DIGEST
"""

import hashlib
import pathlib
import sys

import oras.client

target, folder, digest = sys.argv[1:]
client = oras.client.OrasClient(hostname=target.split("/")[0], insecure=True)
files = client.pull(target=target, outdir=folder)
found = {f"sha256:{hashlib.sha256(pathlib.Path(file).read_bytes()).hexdigest()}": file for file in files}
assert digest in found, (digest, found)
assert found[digest].endswith(".tar.zst"), found
