//! What is told of a study: numbers in the units of those who read, evidence in words and charts; on pages and in reports alike.

pub mod evidence;
pub mod quantity;
