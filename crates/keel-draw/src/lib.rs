//! keel-draw
