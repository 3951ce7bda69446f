use super::support::Bench;

const SETUP: &str = "--image buoy/wave-buoy.elf --core-clock 47.972352MHz --pc-sample-period 4096 --tick-period 1ms --marks-port 16 --timestamp-dates-group --name wave-buoy";

#[test]
fn a_folder_made_from_raw_files_is_as_good_as_one_by_hand() {
    let bench = Bench::new();
    let out = bench.out(&format!("import buoy/swo.bin --out made {SETUP}"));
    assert!(out.contains("next: weltblick inspect made"), "{out}");
    assert_eq!(bench.read("made/swo.bin"), bench.read("buoy/swo.bin"));
    assert_eq!(bench.out("profile made --format csv"), bench.out("profile buoy --format csv"));
    assert_eq!(
        bench.out("inspect made --format json"),
        bench.out("inspect buoy --format json"),
        "the tick period travels too"
    );
}

#[test]
fn several_files_are_one_stream() {
    let bench = Bench::new();
    let bytes = bench.read("buoy/swo.bin");
    // Cut inside a packet: the seam must not show.
    bench.write("swo.0", &bytes[..100_001]);
    bench.write("swo.1", &bytes[100_001..]);
    bench.out(&format!("import swo.0 swo.1 --out made {SETUP}"));
    assert_eq!(bench.out("profile made --format csv"), bench.out("profile buoy --format csv"));
}

#[test]
fn an_existing_folder_is_refused_unless_told() {
    let bench = Bench::new();
    let import = format!("import buoy/swo.bin --out made {SETUP}");
    bench.out(&import);
    assert!(bench.error(&import).contains("--replace"));
    bench.out(&format!("{import} --replace"));
    bench.write("precious/thesis.txt", "years of work");
    let error = bench.error("import buoy/swo.bin --out precious --replace");
    assert!(error.contains("something else"), "{error}");
    assert!(bench.path("precious/thesis.txt").exists());
}

#[test]
fn amending_changes_settings_and_keeps_the_rest() {
    let bench = Bench::new();
    bench.out("import buoy/swo.bin --out made --pc-sample-period 64");
    assert!(bench.error("profile made").contains("--image"));
    bench.out(&format!("import --amend --out made {SETUP}"));
    assert_eq!(bench.out("profile made --format csv"), bench.out("profile buoy --format csv"));
    let manifest = String::from_utf8(bench.read("made/capture.toml")).unwrap();
    assert!(
        manifest.contains("pc_sample_period = 4096") && !manifest.contains("64\n"),
        "{manifest}"
    );
}

#[test]
fn a_newer_image_takes_the_place_of_the_old_one() {
    let bench = Bench::new();
    bench.out(&format!("import buoy/swo.bin --out made {SETUP}"));
    let program = include_bytes!("../../../weltblick-standin/tests/isa/isa.elf");
    bench.write("newer/wave-buoy.elf", program);
    bench.out("import --amend --out made --image newer/wave-buoy.elf");
    assert_eq!(bench.read("made/wave-buoy.elf"), program);
    // Anything else of a name that is there already is refused.
    bench.write("newer/swo.bin", "another stream");
    assert!(bench.error("import newer/swo.bin --amend --out made").contains("of this name"));
    assert_eq!(bench.read("made/swo.bin"), bench.read("buoy/swo.bin"));
}

#[test]
fn framing_is_remembered() {
    let bench = Bench::new();
    bench.out("import buoy/swo.bin --out made --framing tpiu --trace-id 5");
    let manifest = String::from_utf8(bench.read("made/capture.toml")).unwrap();
    assert!(manifest.contains("framing = \"tpiu\"") && manifest.contains("trace_id = 5"));
    bench.out("inspect made");
}

/// A port that carries two sources is described by options alone, and later a setting of the same file is mended.
#[test]
fn sources_of_a_framed_stream_are_named() {
    let bench = Bench::with_all_flows();
    let others = "--image buoy/wave-buoy.elf --core-clock 47.972352MHz --pc-sample-period 4096 \
                  --register trcconfigr=0x1811";
    let sources = "--stream-source 1=itm --stream-source 2=etmv4";
    bench.out(&format!("import buoy-port/port.bin --out made {sources} {others}"));
    let same = |command: &str| {
        let [one, other] =
            ["made", "buoy-port"].map(|folder| bench.json(&command.replace('%', folder)));
        assert_eq!(one, other, "{command}");
    };
    same("profile %");
    same("profile % --samples");
    // The marks' port was left out. The same file says which stream is meant.
    bench.out("import buoy-port/port.bin --amend --out made --marks-port 16");
    same("tasks %");
    same("inspect %");
    // The second source was another protocol, and read from the raw file.
    bench.out("import made/port.bin --amend --out made --stream-source 1=itm,2=etmv3");
    assert_eq!(bench.json("inspect made")["schema"], "weltblick/inspect/2");
    let raw = format!("profile buoy-port/port.bin {sources} {others} --marks-port 16");
    assert_eq!(bench.json(&raw), bench.json("profile buoy-port"));
    for (options, part) in [
        ("--stream-source 1=itm,1=etmv4", "this ID is there twice"),
        ("--stream-source 0=itm", "write a trace ID from 1 to 111"),
        ("--stream-source 1=mtb", "there are no frames around it"),
        ("--stream-source 1=itm --framing none", "a stream without frames has one source"),
    ] {
        let error = bench.error(&format!("import buoy-port/port.bin --out no {options}"));
        assert!(error.contains(part), "{error}");
    }
    // Another file of that name is another file.
    bench.write("port.bin", b"something else");
    let error = bench.error("import port.bin --amend --out made");
    assert!(error.contains("has another file of this name"), "{error}");
}

#[test]
fn nothing_is_left_behind_when_it_fails() {
    let bench = Bench::new();
    bench.write("broken.elf", "not an ELF file");
    assert!(
        bench.error("import buoy/swo.bin --out made --image broken.elf").contains("no ELF file")
    );
    assert!(bench.error("import missing.bin --out made").contains("missing.bin"));
    assert!(!bench.path("made").exists());
    let left = std::fs::read_dir(bench.path(".")).unwrap().count();
    assert_eq!(left, 3, "buoy, budgets.toml, broken.elf");
}
