//! A stream of ITM bytes and an ELF file to a profile.
//!
//! `cargo run -p weltblick-core --example stream-to-profile -- demo/buoy/wave-buoy.elf demo/buoy/swo.bin`

use weltblick_core::capture::{ItmSettings, Line, StreamSpec};
use weltblick_core::event::Origin;
use weltblick_core::image::Image;
use weltblick_core::measure::profile::{By, SampleCounts, rows};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut files = std::env::args().skip(1);
    let (elf, stream) = files.next().zip(files.next()).ok_or("usage: ELF STREAM")?;
    let image = Image::parse(&std::fs::read(elf)?)?;

    let mut counts = SampleCounts::default();
    let spec = StreamSpec::itm(Vec::new(), ItmSettings::default());
    let mut line = Line::new(&spec, Origin(0));
    line.push(&std::fs::read(stream)?, &mut (), &mut counts); // in chunks of any size
    line.finish(&mut (), &mut counts);

    for row in rows(&counts, &image, By::Function { inlined: false }, 0.95).iter().take(10) {
        let name = row.function.as_deref().unwrap_or("[asleep]");
        println!("{:6.2} %  {name}", 100.0 * row.estimate.share);
    }
    Ok(())
}
