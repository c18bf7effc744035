//! Names as text, also those that are none: different names stay different.

/// The text of `signs`; what is no sign comes as the escape that stands for it, which begins with a backslash and `x` or
/// `u`. A backslash of the name that could be taken for the beginning of an escape is written twice.
pub(crate) fn spelled(signs: impl Iterator<Item = Result<char, String>>) -> String {
    let mut signs = signs.peekable();
    let mut text = String::with_capacity(signs.size_hint().1.unwrap_or(0).min(1024));
    while let Some(sign) = signs.next() {
        match sign {
            Ok('\\') => {
                let ambiguous = matches!(signs.peek(), Some(Ok('x' | 'u' | '\\') | Err(_)));
                text.push_str(if ambiguous { "\\\\" } else { "\\" });
            }
            Ok(sign) => text.push(sign),
            Err(escape) => text.push_str(&escape),
        }
    }
    text
}

/// A name of bytes as text: UTF-8 as it is, every other byte as `\xNN`, so that no two names become one.
pub(crate) fn spelled_bytes(name: &[u8]) -> String {
    spelled(name.utf8_chunks().flat_map(|chunk| {
        let invalid = chunk.invalid().iter().map(|byte| Err(format!("\\x{byte:02X}")));
        chunk.valid().chars().map(Ok).chain(invalid)
    }))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// The bytes of a spelled name.
    fn bytes_of(text: &str) -> Vec<u8> {
        let (mut bytes, mut rest) = (Vec::new(), text);
        while let Some(sign) = rest.chars().next() {
            let escape = rest.strip_prefix("\\x").and_then(|rest| rest.get(..2));
            if rest.starts_with("\\\\") {
                bytes.push(b'\\');
                rest = &rest[2..];
            } else if let Some(byte) = escape {
                bytes.push(u8::from_str_radix(byte, 16).unwrap());
                rest = &rest[4..];
            } else {
                bytes.extend(sign.to_string().as_bytes());
                rest = &rest[sign.len_utf8()..];
            }
        }
        bytes
    }

    proptest! {
        #[test]
        fn every_name_comes_back_from_its_spelling(name in proptest::collection::vec(
            prop_oneof![Just(b'\\'), Just(b'x'), Just(b'F'), Just(0xFF), Just(b'0'), any::<u8>()], 0..12)
        ) {
            let raw = crate::ext::RawName { inode: 1, name: name.clone(), file_type: 1, present: true };
            prop_assert_eq!(bytes_of(&raw.text()), name);
        }
    }

    #[test]
    fn usual_names_are_left_as_they_are() {
        for name in ["a\\b.txt", "\\", "C:\\data", "Überfahrt"] {
            assert_eq!(spelled(name.chars().map(Ok)), name);
            assert_eq!(crate::ntfs::utf16_text(name.encode_utf16()), name);
        }
        assert_eq!(crate::ntfs::utf16_text([0x41, 0xD800, 0x42].into_iter()), "A\\uD800B");
        assert_eq!(crate::ntfs::utf16_text("A\\uD800".encode_utf16()), "A\\\\uD800");
    }
}
