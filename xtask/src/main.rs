//! ykeel
fn main() {}
