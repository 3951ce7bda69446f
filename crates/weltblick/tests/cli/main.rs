//! The built program, as its users meet it: whole outputs and exit codes in folders of their own.

mod bad_input;
mod capture;
mod check;
mod console;
mod cores;
mod debug_files;
mod demo;
mod diagnosis;
mod event_trace;
mod faults;
mod flow;
#[cfg(unix)]
mod hostile;
mod import;
mod inspect;
mod interrupts;
mod live;
mod memory;
mod narrow;
mod one_figure;
mod plan;
mod profile;
mod signals;
mod span;
mod stand_in;
mod stub;
mod support;
mod tasks;
mod timeline;
