//! Code page 437, the OEM character set of short names.

/// The upper half of code page 437, from 0x80.
const UPPER: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u{a0}";

/// One OEM character.
pub(crate) fn decode(byte: u8) -> char {
    match byte.checked_sub(0x80) {
        None => char::from(byte),
        Some(index) => UPPER.chars().nth(usize::from(index)).unwrap_or('\u{fffd}'),
    }
}

/// A short name `8 + 3` as text. `nt_res` says which part is lower case.
pub(crate) fn short_name(raw: &[u8; 11], nt_res: u8) -> String {
    let (base, extension) = raw.split_at(8);
    let part = |bytes: &[u8], lower: bool| -> String {
        let text: String = bytes.iter().map(|byte| decode(*byte)).collect();
        let text = text.trim_end_matches(' ').to_string();
        if lower { text.to_lowercase() } else { text }
    };
    let mut base = part(base, nt_res & 0x08 != 0);
    // 0x05 stands for a first byte 0xE5, which would mark the entry as deleted.
    if raw.first() == Some(&0x05) {
        base = base.replacen('\u{5}', "σ", 1);
    }
    let extension = part(extension, nt_res & 0x10 != 0);
    if extension.is_empty() { base } else { format!("{base}.{extension}") }
}

/// The checksum of a short name that its long-name entries carry.
pub(crate) fn checksum(raw: &[u8; 11]) -> u8 {
    raw.iter().fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte))
}
