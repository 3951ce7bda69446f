//! The client against stubs that follow a script: what is asked, and what comes back, byte by byte.

use super::packet::packet;
use super::{Client, StubError};
use std::collections::HashMap;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::thread;
use std::time::{Duration, Instant};

/// What a scripted stub sends for a request.
type Script = HashMap<&'static str, Vec<u8>>;

/// Serves one connection by a script; requests that it does not know get an empty answer. Every
/// request is acknowledged until `QStartNoAckMode`.
fn serve(mut stream: TcpStream, script: &Script) {
    let (mut held, mut acknowledges) = (Vec::new(), true);
    let mut bytes = [0; 4096];
    loop {
        match stream.read(&mut bytes) {
            Ok(0) | Err(_) => return,
            Ok(count) => held.extend_from_slice(&bytes[..count]),
        }
        while let Some((request, used)) = first_packet(&held) {
            held.drain(..used);
            if acknowledges && stream.write_all(b"+").is_err() {
                return;
            }
            acknowledges &= request != "QStartNoAckMode";
            let answer = script.get(request.as_str()).cloned().unwrap_or_else(|| packet(b""));
            // In small pieces: where they are cut must not matter.
            for piece in answer.chunks(7) {
                if stream.write_all(piece).is_err() {
                    return;
                }
            }
        }
    }
}

/// The first whole packet among `bytes`, or an interrupt, and how many bytes it takes.
fn first_packet(bytes: &[u8]) -> Option<(String, usize)> {
    let start = bytes.iter().position(|byte| matches!(byte, b'$' | 0x03))?;
    if bytes[start] == 0x03 {
        return Some(("interrupt".into(), start + 1));
    }
    let end = start + bytes[start..].iter().position(|&byte| byte == b'#')?;
    (bytes.len() >= end + 3)
        .then(|| (String::from_utf8_lossy(&bytes[start + 1..end]).into_owned(), end + 3))
}

const HELLO: &str = "qSupported:xmlRegisters=arm;vContSupported+";

/// A client of a stub that offers `features` and follows the rest of the script.
fn client(features: &str, script: &[(&'static str, &[u8])]) -> Result<Client, StubError> {
    let mut whole: Script =
        script.iter().map(|(request, answer)| (*request, answer.to_vec())).collect();
    whole.entry(HELLO).or_insert_with(|| packet(features.as_bytes()));
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    thread::spawn(move || {
        if let Ok((stream, _)) = listener.accept() {
            serve(stream, &whole);
        }
    });
    Client::connect(&address)
}

#[test]
fn reads_memory_in_pieces_that_fit_the_stub() {
    // 0x60 bytes a packet leave sixteen bytes of memory in one.
    let mut client = client(
        "PacketSize=60",
        &[
            ("m1000,10", &packet(b"000102030405060708090a0b0c0d0e0f")),
            // Fewer than asked for: the rest is asked for again.
            ("m1010,8", &packet(b"10111213")),
            ("m1014,4", &packet(b"14151617")),
        ],
    )
    .unwrap();
    let expected: Vec<u8> = (0..24).collect();
    assert_eq!(client.read(0x1000, 24).unwrap(), expected);
}

#[test]
fn understands_run_lengths_and_bytes() {
    let zeros = b"$0* #7a".to_vec(); // four zeros, written as one and three more
    let mut digits = client("", &[("m1000,2", &zeros)]).unwrap();
    assert_eq!(digits.read(0x1000, 2).unwrap(), [0, 0]);
    let mut bytes =
        client("binary-upload+", &[("x1000,4", &packet(&[b'b', b'#', b'}', 0x03, b'*']))]).unwrap();
    assert_eq!(bytes.word(0x1000).unwrap(), u32::from_le_bytes([b'#', b'}', 0x03, b'*']));
}

#[test]
fn asks_again_when_a_sum_is_wrong_and_gives_up_in_the_end() {
    // Each `-` of ours is passed over by the script, so the right answer stands behind the wrong.
    let twice = [b"$01020304#00".as_slice(), &packet(b"01020304")].concat();
    let mut patient = client("", &[("m1000,4", &twice)]).unwrap();
    assert_eq!(patient.word(0x1000).unwrap(), 0x0403_0201);
    let never = b"$01020304#00".repeat(8);
    let mut tired = client("", &[("m1000,4", &never)]).unwrap();
    let error = tired.word(0x1000).unwrap_err().to_string();
    assert!(error.contains("wrong checksums"), "{error}");
}

#[test]
fn without_acknowledgements_a_wrong_sum_is_the_end() {
    let offer = "QStartNoAckMode+";
    let script: [(&str, &[u8]); 2] =
        [("QStartNoAckMode", &packet(b"OK")), ("m1000,4", b"$01020304#00")];
    let error = client(offer, &script).unwrap().word(0x1000).unwrap_err().to_string();
    assert!(error.contains("wrong checksums"), "{error}");
}

#[test]
fn refusals_and_nonsense_are_told_apart() {
    let mut client = client(
        "",
        &[
            ("m0,4", &packet(b"E14")),
            ("m4,4", &packet(b"rubbish!")),
            ("m8,4", &packet(b"0001020304050607")),
            ("M0,4:01000000", &packet(b"E.not now")),
            ("M4,4:01000000", &packet(b"what")),
        ],
    )
    .unwrap();
    for (address, part) in
        [(0, "refuses to read 4 bytes"), (4, "means nothing"), (8, "means nothing")]
    {
        let error = client.word(address).unwrap_err().to_string();
        assert!(error.contains(part), "{error}");
    }
    assert!(client.write_word(0, 1).unwrap_err().to_string().contains("refuses to write"));
    assert!(client.write_word(4, 1).unwrap_err().to_string().contains("means nothing"));
}

#[test]
fn writes_bytes_where_digits_are_not_taken() {
    let mut client = client("", &[("X1000,4:\u{1}\u{2}\u{3}\u{4}", &packet(b"OK"))]).unwrap();
    client.write_word(0x1000, 0x0403_0201).unwrap();
    assert!(client.write_word(0x2000, 1).unwrap_err().to_string().contains("cannot write memory"));
}

#[test]
fn finds_the_program_counter_with_or_without_p() {
    let mut by_number = client("", &[("pf", &packet(b"00010008"))]).unwrap();
    assert_eq!(by_number.program_counter().unwrap(), 0x0800_0100);
    let all = "00000000".repeat(15) + "02010008";
    let mut by_row = client("", &[("g", &packet(all.as_bytes()))]).unwrap();
    assert_eq!(by_row.program_counter().unwrap(), 0x0800_0102);
    // Where the target's description puts it elsewhere.
    let document = b"l<target><reg name='pc' regnum='32'/></target>";
    let mut described = client(
        "qXfer:features:read+",
        &[
            ("qXfer:features:read:target.xml:0,400", &packet(document)),
            ("p20", &packet(b"0000008000000000")),
        ],
    )
    .unwrap();
    assert_eq!(described.program_counter().unwrap(), 0x8000_0000);
}

#[test]
fn notices_of_a_stop_are_kept_until_they_are_wanted() {
    let notice = b"%Stop:T05thread:1;#".to_vec();
    let sum = notice[1..notice.len() - 1].iter().fold(0_u8, |sum, byte| sum.wrapping_add(*byte));
    let notice = [notice.as_slice(), format!("{sum:02x}").as_bytes()].concat();
    let mut client = client(
        "QNonStop+",
        &[
            ("QNonStop:1", &packet(b"OK")),
            ("vCont;c", &packet(b"OK")),
            // The stop is told before the answer.
            ("m1000,4", &[notice.as_slice(), &packet(b"01000000")].concat()),
            ("vStopped", &packet(b"OK")),
        ],
    )
    .unwrap();
    assert!(client.use_non_stop().unwrap());
    client.go_on().unwrap();
    assert!(!client.wait_until_stopped(Duration::from_millis(20)).unwrap());
    assert_eq!(client.word(0x1000).unwrap(), 1);
    assert!(client.wait_until_stopped(Duration::from_millis(20)).unwrap());
    assert!(!client.wait_until_stopped(Duration::from_millis(20)).unwrap(), "told once");
}

#[test]
fn finds_out_whether_memory_is_served_while_the_target_runs() {
    // It answers: it can.
    let mut open = client("", &[("m1000,4", &packet(b"01000000")), ("c", b"")]).unwrap();
    open.go_on().unwrap();
    assert!(open.reads_while_running(0x1000).unwrap());
    // It stops the target for it: it cannot, and the target is let run again.
    let mut stopping = client("", &[("m1000,4", &packet(b"T02thread:1;")), ("c", b"")]).unwrap();
    stopping.go_on().unwrap();
    assert!(!stopping.reads_while_running(0x1000).unwrap());
    // It keeps silent: it cannot, and what it may still say is not taken for another answer.
    let mut silent =
        client("", &[("m1000,4", b""), ("c", b""), ("interrupt", &packet(b"T02thread:1;"))])
            .unwrap();
    silent.go_on().unwrap();
    let started = Instant::now();
    assert!(!silent.reads_while_running(0x1000).unwrap());
    assert!(started.elapsed() < Duration::from_secs(2));
}

#[test]
fn breakpoints_fall_back_to_what_the_stub_can() {
    let mut soft = client("", &[("Z0,8000100,2", &packet(b"OK"))]).unwrap();
    soft.set_break(0x0800_0100, true).unwrap();
    let error = soft.set_break(0x0800_0100, false).unwrap_err().to_string();
    assert!(error.contains("cannot set breakpoints"), "{error}");
}

#[test]
fn commands_of_its_own_may_talk() {
    let talk = [packet(b"O72657365740a"), packet(b"OK")].concat();
    // "reset" in digits.
    let mut client = client("", &[("qRcmd,7265736574", &talk)]).unwrap();
    client.command("reset").unwrap();
    assert!(client.command("dance").unwrap_err().to_string().contains("qRcmd"));
}
