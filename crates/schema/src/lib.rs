//! Schemas: compiled once, and documents checked against them.
//!
//! [`json`] has JSON Schema. It works on values of the tree, from whatever format they were read; places lead back to the texts
//! that both the documents and the schemas were read from.

pub mod json;
