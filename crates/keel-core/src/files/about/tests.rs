use std::io::Write;

use flate2::Compression;
use flate2::write::{GzEncoder, ZlibEncoder};
use keel_format::MemoryStream;
use proptest::prelude::*;
use zip::write::SimpleFileOptions;

use super::*;

fn told(bytes: &[u8]) -> About {
    about_stream(Box::new(MemoryStream(bytes.to_vec())), &Cancel::default())
        .unwrap_or_else(|| panic!("no form: {:?}", bytes.get(..16)))
}

fn says<'a>(about: &'a About, word: &str) -> Option<&'a str> {
    about.says.iter().find(|(own, _)| *own == word).map(|(_, value)| value.as_str())
}

fn zipped(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, content) in files {
        writer.start_file(*name, SimpleFileOptions::default()).unwrap();
        writer.write_all(content).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

fn tarred(files: &[(&str, &[u8])]) -> Vec<u8> {
    let mut builder = tar::Builder::new(Vec::new());
    for (name, content) in files {
        let mut header = tar::Header::new_ustar();
        header.set_size(content.len() as u64);
        builder.append_data(&mut header, name, *content).unwrap();
    }
    builder.into_inner().unwrap()
}

fn gzipped(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = GzEncoder::new(Vec::new(), Compression::default());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

fn docx() -> Vec<u8> {
    let core = "<?xml version=\"1.0\"?><cp:coreProperties xmlns:cp=\"c\" xmlns:dc=\"d\" xmlns:dcterms=\"t\">\
        <dc:title>Fares &amp; tides\n 2026</dc:title><dc:creator>Purser</dc:creator>\
        <dcterms:modified>2026-04-02T08:00:00Z</dcterms:modified></cp:coreProperties>";
    zipped(&[("[Content_Types].xml", b"<Types/>"), ("word/document.xml", b"<w/>"), ("docProps/core.xml", core.as_bytes())])
}

/// A PDF of two pages with a classic table of references.
fn pdf() -> Vec<u8> {
    let objects = [
        "<< /Type /Catalog /Pages 2 0 R >>",
        "<< /Type /Pages /Count 2 /Kids [3 0 R 4 0 R] >>",
        "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 9 9] >>",
        "<< /Type /Page /Parent 2 0 R /MediaBox [0 0 9 9] >>",
        "<< /Title (Crew rota) /Author (Brackwater Line) /CreationDate (D:20260517091500Z) >>",
    ];
    let (mut pdf, mut places) = (String::from("%PDF-1.4\n"), Vec::new());
    for (index, object) in objects.iter().enumerate() {
        places.push(pdf.len());
        pdf.push_str(&format!("{} 0 obj\n{object}\nendobj\n", index + 1));
    }
    let table = pdf.len();
    pdf.push_str("xref\n0 6\n0000000000 65535 f \n");
    places.iter().for_each(|at| pdf.push_str(&format!("{at:010} 00000 n \n")));
    pdf.push_str(&format!("trailer\n<< /Size 6 /Root 1 0 R /Info 5 0 R >>\nstartxref\n{table}\n%%EOF\n"));
    pdf.into_bytes()
}

fn wav(seconds: u32) -> Vec<u8> {
    let data = vec![0; (8000 * seconds) as usize];
    let mut wav = b"RIFF".to_vec();
    wav.extend((36 + data.len() as u32).to_le_bytes());
    wav.extend(b"WAVEfmt \x10\0\0\0\x01\0\x01\0");
    wav.extend([8000_u32.to_le_bytes(), 8000_u32.to_le_bytes()].concat());
    wav.extend(b"\x01\0\x08\0data");
    wav.extend((data.len() as u32).to_le_bytes());
    wav.extend(data);
    wav
}

/// The main header of an AVI: 25 frames a second.
fn avi(frames: u32) -> Vec<u8> {
    let mut avi = b"RIFF\0\0\0\0AVI LIST\0\0\0\0hdrlavih\x38\0\0\0".to_vec();
    for word in [40_000, 0, 0, 0, frames, 0, 1, 0, 640, 480, 0, 0, 0, 0] {
        avi.extend(u32::to_le_bytes(word));
    }
    avi
}

fn atom(kind: &[u8; 4], inside: &[u8]) -> Vec<u8> {
    let mut atom = (inside.len() as u32 + 8).to_be_bytes().to_vec();
    atom.extend(kind);
    atom.extend(inside);
    atom
}

/// A film whose index stands behind its data: no sound, `seconds` long, in a time base of 1000.
fn mp4(seconds: u32) -> Vec<u8> {
    let words = |words: &[u32]| words.iter().flat_map(|word| word.to_be_bytes()).collect::<Vec<u8>>();
    let length = seconds * 1000;
    let matrix = [0x10000, 0, 0, 0, 0x10000, 0, 0, 0, 0x4000_0000];
    let mvhd =
        atom(b"mvhd", &words(&[&[0, 0, 0, 1000, length, 0x10000, 0x0100_0000, 0, 0][..], &matrix, &[0; 6], &[2]].concat()));
    let tkhd = atom(b"tkhd", &words(&[&[7, 0, 0, 1, 0, length, 0, 0, 0, 0][..], &matrix, &[320 << 16, 240 << 16]].concat()));
    let mdhd = atom(b"mdhd", &words(&[0, 0, 0, 1000, length, 0x55c4_0000]));
    let hdlr = atom(b"hdlr", &[&words(&[0, 0])[..], b"vide", &[0; 13]].concat());
    let dinf = atom(b"dinf", &atom(b"dref", &[&words(&[0, 1])[..], &atom(b"url ", &words(&[1]))].concat()));
    let mut sample =
        [&[0; 6][..], &[0, 1], &[0; 16], &[1, 64, 0, 240], &words(&[0x48_0000, 0x48_0000, 0]), &[0, 1], &[0; 32]].concat();
    sample.extend([0, 24, 255, 255]);
    let stsd = atom(b"stsd", &[&words(&[0, 1])[..], &atom(b"avc1", &sample)].concat());
    let stts = atom(b"stts", &words(&[0, 1, 1, length]));
    let stsc = atom(b"stsc", &words(&[0, 1, 1, 1, 1]));
    let stsz = atom(b"stsz", &words(&[0, 16, 1]));
    let stco = atom(b"stco", &words(&[0, 1, 32]));
    let stbl = atom(b"stbl", &[stsd, stts, stsc, stsz, stco].concat());
    let minf = atom(b"minf", &[atom(b"vmhd", &words(&[1, 0, 0])), dinf, stbl].concat());
    let mdia = atom(b"mdia", &[mdhd, hdlr, minf].concat());
    let moov = atom(b"moov", &[mvhd, atom(b"trak", &[tkhd, mdia].concat())].concat());
    [atom(b"ftyp", b"isom\0\0\0\0isomavc1"), atom(b"mdat", &[0; 64]), moov].concat()
}

/// Silent frames of MPEG 1 layer III, 128 kbit/s at 44.1 kHz.
fn mp3(frames: usize) -> Vec<u8> {
    let mut frame = vec![0; 417];
    frame[..4].copy_from_slice(b"\xff\xfb\x90\x64");
    frame.repeat(frames)
}

#[test]
fn archives_are_listed() {
    let zip = told(&zipped(&[("rota/may.txt", b"one"), ("rota/june.txt", &[7; 5000])]));
    let names: Vec<(&str, u64)> = zip.listing.iter().map(|listed| (listed.path.as_str(), listed.bytes)).collect();
    assert_eq!((zip.form, names), ("ZIP archive", vec![("rota/may.txt", 3), ("rota/june.txt", 5000)]));
    assert_eq!(says(&zip, "unpacked"), Some("5003 bytes"));
    let tar = tarred(&[("crew/log.txt", b"log"), ("crew/list.csv", b"a,b")]);
    for (form, bytes) in [("tar archive", tar.clone()), ("tar archive, gzip", gzipped(&tar))] {
        let about = told(&bytes);
        let names: Vec<&str> = about.listing.iter().map(|listed| listed.path.as_str()).collect();
        assert_eq!((about.form, names, about.problem), (form, vec!["crew/log.txt", "crew/list.csv"], None));
    }
    let one = told(&gzipped(b"a log that is no archive"));
    assert_eq!((one.form, one.listing.len(), one.problem), ("gzip", 0, None));
}

#[test]
fn documents_say_their_titles() {
    let text = told(&docx());
    assert_eq!(text.form, "Office text");
    assert_eq!([says(&text, "title"), says(&text, "by")], [Some("Fares & tides 2026"), Some("Purser")]);
    let meta = b"<office:document-meta><office:meta><dc:title>Berths</dc:title></office:meta></office:document-meta>";
    let open = told(&zipped(&[("mimetype", b"application/vnd.oasis.opendocument.text"), ("meta.xml", meta)]));
    assert_eq!((open.form, says(&open, "title")), ("OpenDocument file", Some("Berths")));
    let pdf = told(&pdf());
    assert_eq!((pdf.form, &pdf.problem), ("PDF", &None));
    let told = ["title", "by", "created", "pages"].map(|word| says(&pdf, word));
    assert_eq!(told, [Some("Crew rota"), Some("Brackwater Line"), Some("2026-05-17 09:15"), Some("2")]);
}

#[test]
fn sound_and_film_say_how_long_they_are() {
    for (bytes, form, length) in
        [(wav(75), "WAV sound", "1:15.0"), (avi(2500), "AVI film", "1:40.0"), (mp4(3725), "MP4 or QuickTime", "1:02:05")]
    {
        let about = told(&bytes);
        assert_eq!((about.form, says(&about, "length"), &about.problem), (form, Some(length), &None), "{about:?}");
    }
    assert_eq!(says(&told(&avi(25)), "film"), Some("640 x 480"));
    // 400 frames of 1152 samples.
    let sound = told(&mp3(400));
    assert!(says(&sound, "length").is_some_and(|length| length.starts_with("0:10.")), "{sound:?}");
}

#[test]
fn text_is_read_in_whatever_form_it_was_written() {
    let line = "Fähre – Überfahrt um 7:15 Uhr, Zürich und Düne";
    let utf16 = |order: fn(u16) -> [u8; 2]| line.encode_utf16().flat_map(order).collect::<Vec<u8>>();
    let (little, big) = (utf16(u16::to_le_bytes), utf16(u16::to_be_bytes));
    let marked = [&b"\xff\xfe"[..], &little].concat();
    let latin = encoding_rs::WINDOWS_1252.encode(line).0.into_owned();
    let (japanese, _, _) = encoding_rs::SHIFT_JIS.encode("港から島へ、毎日三便の船が出ます。時刻表をご覧ください。");
    for (bytes, name) in
        [(line.as_bytes(), "UTF-8"), (&marked, "UTF-16LE"), (&little, "UTF-16LE"), (&big, "UTF-16BE"), (&latin, "windows-1252")]
    {
        assert_eq!(decoded(bytes), Some((line.to_string(), Encoding(name))));
    }
    assert_eq!(decoded(&japanese).map(|(_, encoding)| encoding), Some(Encoding("Shift_JIS")));
    // Cut in the middle of a sign.
    assert_eq!(decoded(&line.as_bytes()[..2]).map(|(_, encoding)| encoding.0), Some("UTF-8"));
    for none in [&b""[..], &[0; 64], b"\x7fELF\x02\x01\x01\0\0\0", &mp3(3), &wav(1), &docx()] {
        assert_eq!(decoded(none), None, "{:?}", none.get(..8));
    }
}

#[test]
fn what_claims_to_unpack_to_gigabytes_is_not_unpacked() {
    let mut bomb = ZlibEncoder::new(Vec::new(), Compression::best());
    (0..64).for_each(|_| bomb.write_all(&vec![b' '; 1 << 20]).unwrap());
    let bomb = bomb.finish().unwrap();
    let head =
        format!("%PDF-1.5\n1 0 obj\n<< /Type /ObjStm /N 1 /First 4 /Length {} /Filter /FlateDecode >>\nstream\n", bomb.len());
    let mut pdf = head.into_bytes();
    pdf.extend(&bomb);
    pdf.extend(b"\nendstream\nendobj\ntrailer << /Root 1 0 R >>\n%%EOF");
    assert!(told(&pdf).problem.is_some_and(|why| why.contains("unpack")));
    let twice = String::from_utf8_lossy(&pdf[..150]).replace("/FlateDecode", "[/FlateDecode /FlateDecode]");
    assert!(told(twice.as_bytes()).problem.is_some());
    // A packed tar is listed as far as a preview may cost.
    let large = tarred(&[("first.bin", &[0; 4096]), ("zeros.bin", &vec![0; 80 << 20]), ("last.txt", b"end")]);
    let about = told(&gzipped(&large));
    assert_eq!((about.listing.len(), about.problem.is_some()), (2, true));
    let stopped = Cancel::default();
    stopped.cancel();
    let about = about_stream(Box::new(MemoryStream(zipped(&[("a", b"a")]))), &stopped).unwrap();
    assert!(about.problem.is_some_and(|why| why.contains("stopped")), "who stops it waits for nothing");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn damaged_files_end_in_words(which in 0_usize..9, places in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..24), cut in any::<prop::sample::Index>()) {
        let whole = [
            || zipped(&[("rota/may.txt", b"one"), ("b", &[7; 900])]), docx, pdf, || wav(1), || avi(9), || mp4(5), || mp3(9),
            || tarred(&[("a", b"1"), ("b", b"2")]), || gzipped(&tarred(&[("a", b"1")])),
        ];
        let mut bytes = whole[which]();
        for (place, value) in places {
            let at = place.index(bytes.len());
            bytes[at] = value;
        }
        bytes.truncate(bytes.len() - cut.index(bytes.len()) / 3);
        if let Some(about) = about_stream(Box::new(MemoryStream(bytes)), &Cancel::default()) {
            prop_assert!(about.listing.len() <= MOST_LISTED);
            prop_assert!(about.form != "damaged", "a package gave up with a panic");
        }
    }
}
