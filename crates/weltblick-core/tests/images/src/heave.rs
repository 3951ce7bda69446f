//! Names of Rust. There is no library for the core here: what the compiler asks of one is at the top.

#![feature(no_core, lang_items, auto_traits)]
#![allow(internal_features)]
#![no_core]
#![no_std]
#![crate_type = "lib"]
#[lang = "pointee_sized"]
pub trait PointeeSized {}
#[lang = "meta_sized"]
pub trait MetaSized: PointeeSized {}
#[lang = "sized"]
pub trait Sized: MetaSized {}
#[lang = "copy"]
pub trait Copy {}
#[lang = "freeze"]
pub unsafe auto trait Freeze {}
#[lang = "sync"]
pub unsafe trait Sync {}
impl Copy for u32 {}
unsafe impl Sync for u32 {}
#[lang = "drop_in_place"]
unsafe fn drop_in_place<T: PointeeSized>(_: *mut T) {}
pub mod wave {
    pub struct Log {
        pub slot: [u32; 4],
        pub head: u32,
    }
    unsafe impl super::Sync for Log {}
    #[used]
    pub static mut LOG: Log = Log { slot: [1, 2, 3, 4], head: 0 };
    #[inline(always)]
    fn pick(at: u32, other: u32) -> u32 {
        match at {
            0 => other,
            _ => at,
        }
    }
    #[inline(never)]
    pub fn filter(x: u32, y: u32) -> u32 {
        pick(y, x)
    }
}
#[unsafe(no_mangle)]
pub extern "C" fn start() -> u32 {
    wave::filter(3, 4)
}
