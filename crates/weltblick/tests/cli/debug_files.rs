//! Images whose debug information is in files of its own.

use super::support::Bench;
use std::path::Path;

/// Puts an image of the core's tests, and its files, into a folder of the bench.
fn build(bench: &Bench, files: &[&str]) {
    let images = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../weltblick-core/tests/images"));
    for file in files {
        bench.write(&format!("build/{file}"), std::fs::read(images.join(file)).unwrap());
    }
}

/// A synchronisation, and a sample at each of these addresses.
fn samples(addresses: impl Iterator<Item = u32>) -> Vec<u8> {
    let mut bytes = vec![0, 0, 0, 0, 0, 0x80];
    for address in addresses {
        bytes.push(0x17);
        bytes.extend(address.to_le_bytes());
    }
    bytes
}

fn recorded(files: &[&str]) -> Bench {
    let bench = Bench::new();
    build(&bench, files);
    // From `hull_heel`, into which `scaled` is inlined.
    bench.write("swo.bin", samples((0..400).map(|n| 0x0800_0050 + n % 20 * 2)));
    bench
}

const SETUP: &str = "--core-clock 48MHz --pc-sample-period 1024";

#[test]
fn import_takes_the_files_along() {
    for (image, files, taken) in [
        ("split-dw5.elf", &["split-dw5-hull.dwo", "split-dw5-mooring.dwo"][..], "2 files of"),
        ("split-dw4.elf", &["split-dw4-hull.dwo", "split-dw4-mooring.dwo"][..], "2 files of"),
    ] {
        let bench = recorded(&[&[image][..], files].concat());
        let import = format!("import swo.bin --out sea --image build/{image} {SETUP}");
        let said = bench.out(&import);
        assert!(said.contains(taken), "{said}");
        std::fs::remove_dir_all(bench.path("build")).unwrap();
        let inlined = bench.out("profile sea --inline");
        assert!(inlined.contains("scaled"), "{inlined}");
        assert!(!bench.out("inspect sea").contains("debug information"));
        assert!(!bench.out("coverage sea").contains("is missing"));
        // Without them lines and functions are still known, and what is missing is named.
        std::fs::remove_dir_all(bench.path("sea/debug-info")).unwrap();
        let inspected = bench.out("inspect sea");
        assert!(inspected.contains(files[0]), "{inspected}");
        assert!(bench.out("profile sea").contains("hull_heel"));
        let inlined = bench.out("profile sea --inline");
        assert!(!inlined.contains("scaled") && inlined.contains(files[0]), "{inlined}");
        let covered = bench.out("coverage sea");
        assert!(covered.contains(files[0]) && covered.contains("A function counts"), "{covered}");
        // Which file a function counts for is not known then, and no budget of a file is met.
        bench.write("sea.toml", "[coverage.\"hull.c\"]\nfunctions = \">= 1 %\"\n");
        let undecided = bench.run("check sea sea.toml");
        assert!(undecided.code == 3 && undecided.out.contains(files[0]), "{undecided:?}");
        // Of everything it does not matter.
        bench.write("all.toml", "[coverage.\"*\"]\nfunctions = \">= 1 %\"\n");
        assert_eq!(bench.run("check sea all.toml").code, 0);
        // Their folder may be named.
        build(&bench, files);
        assert!(bench.out("profile sea --inline --debug-info build").contains("scaled"));
        let decided = bench.run("check sea sea.toml --debug-info build");
        assert!(decided.code == 0, "{decided:?}");
    }
}

#[test]
fn a_package_is_found_beside_the_image() {
    let bench = recorded(&["split-dw4.elf", "packed-dw4.elf.dwp"]);
    let (package, image) = (bench.path("build/packed-dw4.elf.dwp"), "build/split-dw4.elf");
    std::fs::rename(package, bench.path("build/split-dw4.elf.dwp")).unwrap();
    let said = bench.out(&format!("import swo.bin --out sea --image {image} {SETUP}"));
    assert!(said.contains("1 file of debug information"), "{said}");
    std::fs::remove_dir_all(bench.path("build")).unwrap();
    assert!(bench.out("profile sea --inline").contains("scaled"));
}

#[test]
fn inlined_functions_have_rows_where_functions_have() {
    let bench = Bench::new();
    for by in ["file", "line", "address", "task", "interrupt"] {
        let error = bench.error(&format!("profile buoy --inline --by {by}"));
        assert!(error.contains("--by function"), "{error}");
    }
}

/// What was not inlined has one name, with `--inline` and without.
#[test]
fn inlining_renames_nobody() {
    let bench = Bench::new();
    build(&bench, &["names.elf"]);
    bench.write("swo.bin", samples((0..400).map(|n| 0x0800_0008 + n % 100 * 2)));
    let options = format!("swo.bin --image build/names.elf {SETUP} --format csv --top 0");
    let names = |options: &str| -> std::collections::BTreeSet<String> {
        let csv = bench.out(&format!("profile {options}"));
        let mut rows = csv::Reader::from_reader(csv.as_bytes());
        let at = rows.headers().unwrap().iter().position(|name| name == "function").unwrap();
        rows.records().map(|row| row.unwrap()[at].to_owned()).collect()
    };
    let (plain, inlined) = (names(&options), names(&format!("{options} --inline")));
    assert!(plain.iter().any(|name| name.contains("wave::run")), "{plain:?}");
    let new: Vec<&String> = inlined.difference(&plain).collect();
    // Only those that were inlined: lambdas and operators, which have no symbol.
    assert!(new.iter().all(|name| name.contains("operator") || !name.contains('(')), "{new:?}");
}
