//! screen
