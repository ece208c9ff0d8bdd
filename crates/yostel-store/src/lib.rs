//! Local cache, packing, unpacking, tree digests, install and verify.
