//! Made-up worlds, oracles and sandboxes for tests.
