//! keel-format
