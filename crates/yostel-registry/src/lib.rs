//! Writing the registry layout: create, publish, withdraw.
