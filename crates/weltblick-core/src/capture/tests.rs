//! Manifests: what is read, what is refused, and that writing comes back.

use super::*;
use crate::document::At;
use crate::isa::Isa;
use crate::time::Frequency;
use crate::wire::tpiu::Start;
use proptest::prelude::*;
use std::time::Duration;

const WHOLE: &str = r#"
format = 1
image  = "firmware.elf"
inside  = ["0x08000100..0x08000200", "0x08000300..0x08000400"]
exclude = "0x08000180..0x08000190"
intrusive = true
between_points = true

[target]
name       = "wave-buoy"
isa        = "thumb"
core_clock = "48 MHz"
tick_period = "1 ms"

[[stream]]
file     = ["swo.0", "swo.1"]
protocol = "itm"
framing  = "none"

[stream.settings]
pc_sample_period    = 0x400
timestamp_prescaler = 4
timestamp_clock_hz  = 2_000_000

[[stream]]
file    = "port.bin"
framing = "tpiu"
starts_at_frame = true

[[stream.source]]
trace_id = 1
protocol = "itm"
"#;

#[test]
fn reads_everything() {
    let manifest = Manifest::parse("capture.toml", WHOLE).unwrap();
    assert_eq!(manifest.image.unwrap().value, "firmware.elf");
    assert_eq!(manifest.ranges.inside, [0x0800_0100..0x0800_0200, 0x0800_0300..0x0800_0400]);
    assert!(manifest.between_points && manifest.intrusive && !manifest.ranges.holds(0x0800_0180));
    assert_eq!(manifest.target.isa, Some(Isa::Thumb));
    assert_eq!(manifest.target.tick_period, Some(Duration::from_millis(1)));
    let [plain, framed] = &manifest.streams[..] else { panic!("two streams") };
    let files: Vec<&str> = plain.files.iter().map(|file| file.value.as_str()).collect();
    assert_eq!(files, ["swo.0", "swo.1"]);
    let settings = plain.sources[0].protocol.itm().unwrap();
    assert_eq!(settings.pc_sample_period, Some(1024));
    assert_eq!(settings.timestamp_prescaler, 4);
    assert_eq!(settings.timestamp_clock, Frequency::from_hertz(2e6));
    assert_eq!(framed.framing, Framing::Tpiu(Start::AtFrame));
    assert_eq!(framed.sources[0].trace_id, Some(1));
}

#[test]
fn a_variable_may_tell_which_task_runs() {
    let signals = |text: &str| {
        let whole = format!("{WHOLE}\n{text}");
        Manifest::parse("capture.toml", &whole).map_err(|fault| fault.to_string())
    };
    let current = "[signal.kernel_current]\ncomparator = 2\nmeans = 'task runs'\n";
    let manifest = signals(current).unwrap();
    assert_eq!(manifest.current_task(), Some(2));
    let again = Manifest::parse("capture.toml", &manifest.to_toml()).unwrap();
    assert_eq!(again.current_task(), Some(2));
    assert_eq!(Manifest::parse("capture.toml", WHOLE).unwrap().current_task(), None);
    for (text, part) in [
        (current.replace("comparator = 2\n", ""), "that a `comparator` watches"),
        (current.replace("task runs", "task ends"), "`means = \"task runs\"`"),
        (
            format!("{current}[signal.other]\ncomparator = 1\nmeans = 'task runs'\n"),
            "signal `kernel_current` tells which task runs already",
        ),
    ] {
        let fault = signals(&text).unwrap_err();
        assert!(fault.contains(part), "{text}: {fault}");
    }
}

#[test]
fn faults_name_the_line_and_the_way_out() {
    for (from, to, line, part) in [
        ("format = 1", "format = 2", 2, "this version reads format 1"),
        ("format = 1", "fromat = 1", 2, "did you mean `format`?"),
        ("format = 1", "", 1, "needs the key `format`"),
        ("isa        =", "arch       =", 11, "[target] has no key `arch`"),
        ("\"48 MHz\"", "48", 12, "must be a text in quotes, not integer"),
        ("\"48 MHz\"", "\"0 MHz\"", 12, "more than zero"),
        ("\"1 ms\"", "\"1 MHz\"", 13, "`MHz` is not a unit expected here"),
        ("file     =", "flie     =", 16, "[[stream]] has no key `flie`; did you mean `file`?"),
        ("= 0x400", "= -1", 21, "between 0 and 2^64"),
        ("= 0x400", "= 0", 21, "more than zero"),
        ("= 2_000_000", "= 0", 23, "more than zero"),
        ("trace_id = 1", "trace_id = 112", 31, "between 1 and 111"),
        ("[[stream.source]]\ntrace_id = 1", "[stream.source]\ntrace_id = 1", 30, "[[source]]"),
        ("starts_at_frame = true", "starts_at_frame = 1", 28, "true or false"),
        ("[target]", "[target", 9, "capture.toml:9"),
        ("exclude = \"0x", "exclude = \"x", 5, "is no range of addresses"),
        ("0x08000300..0x08000400", "0x2..0x1", 4, "is no range of addresses"),
        ("intrusive = true", "intrusive = 1", 6, "true or false"),
    ] {
        assert!(WHOLE.contains(from), "{from}");
        let fault = Manifest::parse("capture.toml", &WHOLE.replacen(from, to, 1)).unwrap_err();
        assert_eq!(fault.line, line, "{to}: {fault}");
        assert!(fault.to_string().contains(part), "{to}: {fault}");
    }
    let twice = format!("{WHOLE}\n[[stream.source]]\ntrace_id = 1\nprotocol = \"itm\"\n");
    assert!(Manifest::parse("m", &twice).unwrap_err().message.contains("there already"));
    assert!(Manifest::parse("m", "format = 1").unwrap_err().message.contains("[[stream]]"));
}

#[test]
fn a_fault_shows_the_place() {
    let fault = Manifest::parse(
        "capture.toml",
        "format = 1\nimgae = 'x.elf'\n[[stream]]\nfile='a'\nprotocol='itm'\n",
    )
    .unwrap_err();
    assert_eq!(
        fault.to_string(),
        "capture.toml:2:1: the document has no key `imgae`; did you mean `image`?\n  \
         2 | imgae = 'x.elf'\n    | ^^^^^"
    );
}

/// The manifest without the places in the document, which writing does not keep.
fn bare(mut manifest: Manifest) -> Manifest {
    let strip = |at: &mut At<String>| at.span = 0..0;
    manifest.image.iter_mut().for_each(strip);
    manifest.streams.iter_mut().flat_map(|stream| &mut stream.files).for_each(strip);
    manifest
}

#[test]
fn what_is_written_reads_the_same() {
    let manifest = bare(Manifest::parse("capture.toml", WHOLE).unwrap());
    let written = manifest.to_toml();
    let again = Manifest::parse("written", &written).unwrap_or_else(|f| panic!("{f}\n{written}"));
    assert_eq!(bare(again), manifest);
}

proptest! {
    #[test]
    fn any_names_survive_writing(name in any::<String>(), file in "\\PC{1,20}", period in 1_u64..1 << 40) {
        let settings = ItmSettings { pc_sample_period: Some(period), ..ItmSettings::default() };
        let files = vec![At { value: file, span: 0..0 }];
        let manifest = Manifest {
            target: Target { name: Some(name), ..Target::default() },
            streams: vec![StreamSpec::itm(files, settings)],
            ..Manifest::default()
        };
        let again = Manifest::parse("written", &manifest.to_toml()).unwrap();
        prop_assert_eq!(bare(again), manifest);
    }

    #[test]
    fn any_text_is_an_answer(text in any::<String>()) {
        let _ = Manifest::parse("any", &text).map_err(|fault| fault.to_string());
    }

    #[test]
    fn any_damage_is_an_answer(place in any::<proptest::sample::Index>(), insert in "\\PC{0,4}") {
        let mut text = WHOLE.to_owned();
        let mut at = place.index(text.len());
        while !text.is_char_boundary(at) {
            at -= 1;
        }
        text.insert_str(at, &insert);
        let _ = Manifest::parse("any", &text).map_err(|fault| fault.to_string());
    }
}
