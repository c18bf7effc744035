//! keel-core
