//! Recordings and figures in open formats; shares no code with the readers in `wire`.

pub mod cobertura;
pub mod ctf;
pub mod lcov;
