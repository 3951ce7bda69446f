use super::*;
use proptest::prelude::*;
use std::ops::Range;

/// Writes down what it receives, in order.
#[derive(Default)]
struct Seen(Vec<(Range<u64>, String)>);

impl Sink for Seen {
    fn record(&mut self, at: Range<u64>, record: Record<'_>) {
        self.0.push((at, format!("{record:?}")));
    }

    fn loss(&mut self, at: Range<u64>) {
        self.0.push((at, "lost".into()));
    }
}

fn read(pieces: &[&[u8]]) -> Vec<(Range<u64>, String)> {
    let (mut decoder, mut seen) = (Decoder::new(), Seen::default());
    for piece in pieces {
        decoder.push(piece, &mut seen);
    }
    decoder.finish(&mut seen);
    seen.0
}

#[test]
fn reads_every_kind_of_line() {
    let text = "p 10 20 8000100\nh 30 40 8000102\nz 50 60\nn 0 4 u 20000408 src/a b.c#ticks\nv 70 80 0 0c000000\nl 90 99 1 123456\nl 91 92 0 -\n";
    let seen = read(&[text.as_bytes()]);
    let texts: Vec<&str> = seen.iter().map(|(_, text)| text.as_str()).collect();
    assert_eq!(
        texts,
        [
            "Sample { when: (10, 20), pc: Some(134217984), stopped: false }",
            "Sample { when: (30, 40), pc: Some(134217986), stopped: true }",
            "Sample { when: (50, 60), pc: None, stopped: false }",
            "Name { watch: 0, size: 4, kind: Unsigned, address: 536871944, name: \"src/a b.c#ticks\" }",
            "Value { when: (70, 80), watch: 0, bytes: [12, 0, 0, 0] }",
            "Lap { when: (90, 99), lap: 1, cycles: Some(123456) }",
            "Lap { when: (91, 92), lap: 0, cycles: None }",
        ]
    );
}

#[test]
fn what_is_no_line_is_a_loss() {
    for line in
        ["", "p 1 2", "p 1 2 xyz", "p 1 2 3 4", "v 1 2 0 abc", "q 1 2", "n 0 4 x 0 a", "\u{e4}"]
    {
        assert_eq!(read(&[format!("{line}\n").as_bytes()])[0].1, "lost", "{line}");
    }
    let long = "v 1 2 0 ".to_owned() + &"0".repeat(2 * LONGEST_VALUE + 200) + "\nz 1 2\n";
    let seen = read(&[long.as_bytes()]);
    assert_eq!((seen[0].1.as_str(), seen.len()), ("lost", 2));
    assert_eq!(read(&[b"z 1 2\np 3"])[1], (6..9, "lost".into()));
}

proptest! {
    #[test]
    fn any_bytes_tile_and_where_they_are_cut_does_not_show(
        text in "([pzvnlq] ([0-9a-f]{1,4} ){0,4}[0-9a-f\n]{1,4}|[ -~]{0,8}|\n){0,30}",
        cut in any::<prop::sample::Index>(),
    ) {
        let bytes = text.as_bytes();
        let whole = read(&[bytes]);
        let (a, b) = bytes.split_at(cut.index(bytes.len() + 1));
        prop_assert_eq!(&read(&[a, b]), &whole);
        let mut at = 0;
        for (range, _) in whole {
            prop_assert_eq!(range.start, at);
            at = range.end;
        }
        prop_assert_eq!(at, bytes.len() as u64);
    }
}
