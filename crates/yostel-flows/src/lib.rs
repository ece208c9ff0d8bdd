//! One function a use case, joining core, store, sources and registry.
