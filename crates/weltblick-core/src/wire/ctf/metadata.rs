//! The description's text: as it is, or cut into packets (section 7.1).

use super::bits::Order;

/// A description is longer than that only if somebody means harm.
pub const MOST_METADATA: usize = 8 << 20;

/// The first word of every packet of metadata.
const MAGIC: u32 = 0x75d1_1d57;
/// Bytes before a packet's text: magic, UUID, checksum, sizes of content and packet in bits, the
/// schemes of compression, encryption and checksum, and the version.
const HEADER: usize = 4 + 16 + 4 + 4 + 4 + 3 + 2;

/// The text of the file `metadata`.
///
/// # Errors
///
/// What cannot be read, and at which byte.
pub fn metadata_text(bytes: &[u8]) -> Result<String, String> {
    let order =
        [Order::Little, Order::Big].into_iter().find(|order| word(bytes, 0, *order) == MAGIC);
    let plain = match order {
        None => bytes.to_vec(),
        Some(order) => unpack(bytes, order)?,
    };
    String::from_utf8(plain).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        format!("byte {at} of the text is no UTF-8: this is no description of an event trace")
    })
}

fn word(bytes: &[u8], at: usize, order: Order) -> u32 {
    let Some(&[a, b, c, d]) = bytes.get(at..at + 4) else { return 0 };
    match order {
        Order::Little => u32::from_le_bytes([a, b, c, d]),
        Order::Big => u32::from_be_bytes([a, b, c, d]),
    }
}

/// The texts of all packets, one after the other.
fn unpack(bytes: &[u8], order: Order) -> Result<Vec<u8>, String> {
    let mut text = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        let packet = &bytes[at..];
        if packet.len() < HEADER || word(packet, 0, order) != MAGIC {
            return Err(format!("no packet of metadata begins at byte {at}"));
        }
        let [content, whole] = [24, 28].map(|field| word(packet, field, order) as usize / 8);
        if content < HEADER || whole < content || whole > packet.len() {
            return Err(format!(
                "the packet of metadata at byte {at} states a size that cannot be"
            ));
        }
        if packet[32] != 0 || packet[33] != 0 {
            return Err(format!(
                "the packet of metadata at byte {at} is compressed or encrypted; write it plain"
            ));
        }
        text.extend_from_slice(&packet[HEADER..content]);
        at += whole;
    }
    Ok(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn packed(text: &str, order: Order, padding: usize) -> Vec<u8> {
        let word = |value: u32| match order {
            Order::Little => value.to_le_bytes(),
            Order::Big => value.to_be_bytes(),
        };
        let content = (HEADER + text.len()) as u32 * 8;
        let mut packet = word(MAGIC).to_vec();
        packet.extend([7; 16]);
        packet.extend(word(0));
        packet.extend(word(content));
        packet.extend(word(content + padding as u32 * 8));
        packet.extend([0, 0, 0, 1, 8]);
        packet.extend(text.as_bytes());
        packet.extend(vec![0; padding]);
        packet
    }

    #[test]
    fn packets_are_put_together() {
        for order in [Order::Little, Order::Big] {
            let bytes = [packed("trace {", order, 9), packed("};", order, 0)].concat();
            assert_eq!(metadata_text(&bytes), Ok("trace {};".into()));
        }
        assert_eq!(metadata_text(b"/* CTF 1.8 */"), Ok("/* CTF 1.8 */".into()));
    }

    #[test]
    fn what_cannot_be_read_says_where() {
        let whole = packed("x", Order::Little, 0);
        let why = |bytes: &[u8]| metadata_text(bytes).unwrap_err();
        assert!(why(&whole[..whole.len() - 1]).contains("byte 0 states a size"));
        assert!(why(&[&whole[..], b"more"].concat()).contains("begins at byte 38"));
        assert!(why(b"abc\xff").contains("byte 3 of the text"));
        let mut compressed = whole;
        compressed[32] = 1;
        assert!(why(&compressed).contains("is compressed"));
    }
}
