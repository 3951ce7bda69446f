//! A debug stub on the other side of a TCP connection.

mod client;
mod description;
mod packet;

pub(crate) use client::{Client, StubError};
