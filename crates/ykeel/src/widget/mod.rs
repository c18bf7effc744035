//! widget
