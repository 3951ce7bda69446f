//! Recordings in open formats.

pub mod ctf;
