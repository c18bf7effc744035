//! theme
