//! keymap
