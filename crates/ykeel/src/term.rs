//! term
