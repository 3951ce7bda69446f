//! Executed instructions, held against those that the stand-in executed.

mod aligned;
mod apart;
mod builds;
mod calls;
#[path = "../verdicts/chance.rs"]
mod chance;
mod etmv3;
mod etmv4;
mod executed;
mod hold;
mod live;
mod mtb;
mod parts;
mod pieces;
mod random_calls;
mod random_programs;
mod real_calls;
mod recording;
mod turns;
mod verdicts;
