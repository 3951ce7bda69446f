//! A debug stub on the other side of a TCP connection.

mod client;
mod description;
mod error;
mod packet;
#[cfg(test)]
mod tests;

pub(crate) use client::Client;
pub(crate) use error::StubError;
