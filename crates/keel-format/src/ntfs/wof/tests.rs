use super::*;
use crate::{MemoryStream, read_whole};

/// Bits of hand-made pieces: words of 16, the highest first.
#[derive(Default)]
struct Writer {
    bytes: Vec<u8>,
    held: u32,
    count: u32,
}

impl Writer {
    fn put(&mut self, value: u32, bits: u32) {
        for bit in (0..bits).rev() {
            self.held = self.held << 1 | (value >> bit & 1);
            self.count += 1;
            if self.count == 16 {
                self.bytes.extend(u16::try_from(self.held).unwrap().to_le_bytes());
                (self.held, self.count) = (0, 0);
            }
        }
    }

    fn end(mut self) -> Vec<u8> {
        while self.count != 0 {
            self.put(0, 1);
        }
        self.bytes
    }
}

/// A piece under a code in which every one of the 512 symbols has nine bits.
fn even_piece(symbols: &[u16]) -> Vec<u8> {
    let mut writer = Writer::default();
    symbols.iter().for_each(|symbol| writer.put(u32::from(*symbol), 9));
    [vec![0x99; 256], writer.end()].concat()
}

#[test]
fn bytes_and_matches_of_a_plain_piece_are_unpacked() {
    // "ab", then seven bytes from two back: length 7 is 3 and 4, distance 2 is 1 bit of 0.
    let mut writer = Writer::default();
    [u32::from(b'a'), u32::from(b'b'), 256 + 16 + 4].iter().for_each(|symbol| writer.put(*symbol, 9));
    writer.put(0, 1);
    let piece = [vec![0x99; 256], writer.end()].concat();
    let mut out = [0; 9];
    assert!(xpress::unpack(&piece, &mut out));
    assert_eq!(&out, b"ababababa");
}

#[test]
fn lengths_that_do_not_fit_a_symbol_stand_between_the_words() {
    // One byte, then a match of distance 1 whose length is told by a byte, and by two bytes behind it.
    for (length, told) in [(3 + 15 + 200, vec![200]), (3 + 1000, [&[255][..], &1000u16.to_le_bytes()].concat())] {
        let mut writer = Writer::default();
        writer.put(u32::from(b'x'), 9);
        writer.put(256 + 15, 9);
        // The three words that a reader holds by then, and the told length behind them.
        let words = writer.end();
        let mut piece = vec![0x99; 256];
        piece.extend(&words);
        piece.extend(vec![0; 6 - words.len()]);
        piece.extend(told);
        let mut out = vec![0; 1 + length];
        assert!(xpress::unpack(&piece, &mut out), "{length}");
        assert!(out.iter().all(|byte| *byte == b'x'));
    }
}

#[test]
fn what_points_before_a_piece_or_is_no_code_is_refused() {
    let mut out = [0; 16];
    assert!(!xpress::unpack(&even_piece(&[256 + 16]), &mut out), "before the start");
    assert!(!xpress::unpack(&[0x11; 300], &mut out), "more words than one bit has");
    assert!(!xpress::unpack(&[0; 300], &mut out), "no words");
    assert!(!xpress::unpack(&[0x99; 100], &mut out), "cut off in the code");
    assert!(!lzx::unpack(&[0; 64], &mut out), "a block of no kind");
    assert!(!lzx::unpack(&[], &mut out));
    // Whatever stands there: an end, and no more than is asked for.
    let mut state = 0x9E37_79B9_u32;
    for round in 0..3000 {
        let noise: Vec<u8> = (0..300 + round % 400)
            .map(|_| {
                state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                (state >> 24) as u8
            })
            .collect();
        let mut out = vec![0; 4096];
        let _ = xpress::unpack(&noise, &mut out);
        let _ = lzx::unpack(&noise, &mut out);
    }
}

#[test]
fn a_block_that_is_not_packed_is_taken_as_it_is() {
    let content: Vec<u8> = (0..=100u8).collect();
    let mut writer = Writer::default();
    writer.put(3, 3);
    writer.put(0, 1);
    writer.put(u32::try_from(content.len()).unwrap(), 16);
    let mut piece = writer.end();
    piece.extend([1u32, 1, 1].iter().flat_map(|word| word.to_le_bytes()));
    piece.extend(&content);
    let mut out = vec![0; content.len()];
    assert!(lzx::unpack(&piece, &mut out));
    assert_eq!(out, content);
}

fn reparse(provider: u32, algorithm: u32) -> Vec<u8> {
    let words = [0x8000_0017, 16, 1, provider, 1, algorithm];
    words.iter().flat_map(|word: &u32| word.to_le_bytes()).collect()
}

#[test]
fn the_reparse_point_says_how_pieces_are_packed() {
    let told = |provider, algorithm| {
        let bytes = reparse(provider, algorithm);
        Packing::parse(View::new("reparse point", ByteOffset(0), &bytes))
    };
    for (algorithm, coding, piece) in
        [(0, Coding::Xpress, 4096), (1, Coding::Lzx, 32_768), (2, Coding::Xpress, 8192), (3, Coding::Xpress, 16_384)]
    {
        assert_eq!(told(2, algorithm), Some(Packing { coding, piece }));
    }
    assert_eq!((told(1, 0), told(2, 4)), (None, None), "an archive elsewhere; a coding that nobody knows");
}

fn opened(table: &[u32], body: &[u8], bytes: u64) -> Result<PackedStream, FormatError> {
    let stream: Vec<u8> = table.iter().flat_map(|place| place.to_le_bytes()).chain(body.iter().copied()).collect();
    let packing = Packing { coding: Coding::Xpress, piece: 4096 };
    PackedStream::open(Box::new(MemoryStream(stream)), packing, bytes, ByteOffset(0))
}

#[test]
fn pieces_that_packing_did_not_make_smaller_stand_as_they_are_and_damage_stays_in_its_piece() {
    let plain: Vec<u8> = (0..4096u32).map(|index| (index * 7) as u8).collect();
    // Plain, damaged, and the rest of the file: plain again.
    let body = [&plain[..], &[0; 300], b"the rest"].concat();
    let mut stream = opened(&[4096, 4396], &body, 8200).unwrap();
    let mut out = vec![9; 8200];
    let bad = stream.read(0, &mut out);
    assert_eq!(bad, [ByteRange::sized(ByteOffset(4096), 4096)]);
    assert!(out[..4096] == plain && out[4096..8192].iter().all(|byte| *byte == 0) && &out[8192..] == b"the rest");
    let (tail, whole) = read_whole(&mut stream, 8200);
    assert!(!whole && tail.len() == 8200);
}

#[test]
fn a_table_that_falls_or_does_not_fit_is_refused() {
    assert!(opened(&[4096, 96], &[0; 5000], 8200).is_err());
    assert!(opened(&[4096, 6000], &[0; 5000], 8200).is_err(), "behind the end");
    assert!(opened(&[], &[0; 10], u64::MAX).is_err(), "a length that is absurd");
    assert!(opened(&[], b"short", 5).is_ok_and(|mut stream| read_whole(&mut stream, 5).0 == b"short"));
}
