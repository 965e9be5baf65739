//! Renderings of data: the same findings, tables and proofs as text, JSON, CSV, HTML or JUnit XML.

pub(crate) mod diagnosis;
pub(crate) mod findings;
pub(crate) mod proof;
