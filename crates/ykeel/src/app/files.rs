//! What the Files stage holds: the volume looked into, the folder, the listing, the preview.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

use image::imageops::FilterType;
use keel_core::CoreError;
use keel_core::files::{self as core_files, FileGround, GroundJudge};
use keel_core::job::{Cancel, Job};
use keel_core::sweep::Find;
use keel_format::content::is_text;
use keel_format::{Deleted, Entry, Finding, NodeId, StreamInfo, Volume, read_whole};
use keel_source::{Budgeted, SharedSource};
use ratatui::layout::Size;
use ratatui_image::Resize;
use ratatui_image::picker::Picker;
use ratatui_image::protocol::Protocol;

/// The most of a file that a preview reads.
const PREVIEW_BYTES: usize = 256 << 10;
/// The most of a picture that is read and decoded.
const PICTURE_BYTES: usize = 16 << 20;
/// The largest side of a picture that is decoded.
const PICTURE_SIDE: u32 = 8192;

/// A listing as it comes from a job.
pub(crate) type Listing = Result<(Vec<Entry>, Vec<Finding>), CoreError>;

/// A volume as it comes from a job, with the ground that present volumes have of it.
pub(crate) type Opened = Result<(Arc<dyn Volume>, Option<Arc<core_files::Taken>>), CoreError>;

/// How the preview is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum ViewAs {
    /// Text or picture, by what the file is.
    #[default]
    Content,
    /// Bytes.
    Hex,
}

/// A preview of one file.
pub(crate) struct Preview {
    pub(crate) id: NodeId,
    pub(crate) bytes: Vec<u8>,
    pub(crate) whole: bool,
    pub(crate) picture: Option<Protocol>,
    pub(crate) picture_size: Option<(u32, u32)>,
    pub(crate) streams: Vec<StreamInfo>,
    /// What is left of its ground.
    pub(crate) ground: FileGround,
    pub(crate) problem: Option<String>,
}

impl Preview {
    /// True when the bytes read as text.
    pub(crate) fn is_text(&self) -> bool {
        is_text(&self.bytes[..self.bytes.len().min(4096)])
    }
}

/// State of the Files stage.
#[derive(Default)]
pub(crate) struct FilesState {
    pub(crate) volume: Option<Arc<dyn Volume>>,
    /// The ground that present volumes use of an older generation's.
    pub(crate) taken: Option<Arc<core_files::Taken>>,
    pub(crate) find: Option<Find>,
    /// The folders from the root down: number, name, and the row selected when it was left.
    pub(crate) trail: Vec<(NodeId, String, usize)>,
    pub(crate) entries: Vec<Entry>,
    pub(crate) findings: Vec<Finding>,
    pub(crate) selected: usize,
    pub(crate) show_deleted: bool,
    pub(crate) marked: BTreeMap<String, bool>,
    pub(crate) view: ViewAs,
    pub(crate) preview: Option<Preview>,
    pub(crate) scroll: usize,
    pub(crate) problem: Option<String>,
    /// Stops what is read of the volume.
    stop: Cancel,
    pub(crate) open_job: Option<Job<(), Option<Opened>>>,
    pub(crate) list_job: Option<Job<(), Listing>>,
    pub(crate) preview_job: Option<Job<(), Preview>>,
}

impl FilesState {
    pub(crate) fn is_busy(&self) -> bool {
        self.open_job.is_some() || self.list_job.is_some() || self.preview_job.is_some()
    }

    /// Stops what runs. A volume whose listing was stopped is opened anew when it is looked into again.
    pub(crate) fn cancel(&mut self) {
        if let Some(job) = &self.open_job {
            job.cancel().cancel();
            self.stop.cancel();
        }
        if self.list_job.is_some() {
            self.stop.cancel();
            (self.list_job, self.preview_job, self.volume) = (None, None, None);
            self.problem = Some("stopped: the folder was not listed to its end".into());
        }
    }

    /// Looks into `find`.
    pub(crate) fn open(&mut self, source: &SharedSource, finds: &[Find], find: &Find) {
        if self.find.as_ref().is_some_and(|open| open.id == find.id && open.start_byte == find.start_byte)
            && self.volume.is_some()
        {
            return;
        }
        *self = Self { find: Some(find.clone()), show_deleted: self.show_deleted, view: self.view, ..Self::default() };
        // What the volume reads later is stopped by a flag of its own.
        let below = Budgeted::until(SharedSource::clone(source), &self.stop);
        let (find, finds) = (find.clone(), finds.to_vec());
        self.open_job = Some(Job::reading(source, move |source, _| {
            let volume = core_files::open(&below, &find)?;
            Ok((volume, core_files::taken(source, &finds, &find).map(Arc::new)))
        }));
    }

    /// Takes the volume that was opened.
    pub(crate) fn take_opened(&mut self, opened: Opened) {
        match opened {
            Ok((volume, taken)) => {
                self.trail = vec![(volume.root(), String::new(), 0)];
                (self.volume, self.taken) = (Some(volume), taken);
                self.list();
            }
            Err(error) => self.problem = Some(keel_core::chain(&error)),
        }
    }

    /// Lists the folder at the end of the trail.
    pub(crate) fn list(&mut self) {
        let (Some(volume), Some((dir, _, _))) = (&self.volume, self.trail.last()) else { return };
        let (volume, dir) = (Arc::clone(volume), *dir);
        let deleted = if self.show_deleted { Deleted::Show } else { Deleted::Hide };
        self.preview = None;
        self.list_job = Some(Job::start(move |_| core_files::entries(volume.as_ref(), dir, deleted)));
    }

    /// Path of the folder that is listed, without leading separator.
    pub(crate) fn folder(&self) -> String {
        let names: Vec<&str> = self.trail.iter().skip(1).map(|(_, name, _)| name.as_str()).collect();
        names.join("/")
    }

    /// Path of an entry of the listing.
    pub(crate) fn path_of(&self, entry: &Entry) -> String {
        let folder = self.folder();
        if folder.is_empty() { entry.name.clone() } else { format!("{folder}/{}", entry.name) }
    }

    pub(crate) fn selected_entry(&self) -> Option<&Entry> {
        self.entries.get(self.selected)
    }

    /// Starts a preview of the selected file, fitted into `size`, unless it is there already.
    pub(crate) fn look(&mut self, size: Size) {
        let (Some(volume), Some(entry)) = (&self.volume, self.entries.get(self.selected)) else { return };
        let stale = self.preview.as_ref().is_none_or(|preview| preview.id != entry.id);
        if entry.kind != keel_format::NodeKind::File || !stale || self.preview_job.is_some() {
            return;
        }
        self.scroll = 0;
        let (volume, entry, taken) = (Arc::clone(volume), entry.clone(), self.taken.clone());
        self.preview_job = Some(Job::start(move |_| {
            let ground = judge(volume.as_ref(), taken.as_deref()).of(&entry);
            preview(volume.as_ref(), &entry, ground, size)
        }));
    }

    /// What is to be taken out: the marked paths, or the selected one.
    pub(crate) fn wanted(&self) -> Vec<String> {
        if self.marked.is_empty() {
            return self.selected_entry().map(|entry| self.path_of(entry)).into_iter().collect();
        }
        self.marked.keys().cloned().collect()
    }

    /// Where files go by default: a folder named after drive and volume.
    pub(crate) fn default_target(&self, drive: &str) -> PathBuf {
        let name = self.find.as_ref().map_or("volume", |find| find.label.as_deref().unwrap_or(&find.id));
        PathBuf::from("taken-out").join(core_files::safe_component(&format!("{drive} {name}")))
    }
}

/// Who says what is left of a file's ground.
pub(crate) fn judge<'a>(volume: &'a dyn Volume, taken: Option<&'a core_files::Taken>) -> GroundJudge<'a> {
    taken.map_or_else(|| GroundJudge::new(volume), |taken| GroundJudge::under(volume, taken))
}

fn preview(volume: &dyn Volume, entry: &Entry, ground: FileGround, size: Size) -> Preview {
    let mut preview = Preview {
        id: entry.id,
        bytes: Vec::new(),
        whole: true,
        picture: None,
        picture_size: None,
        streams: volume.streams(entry.id).unwrap_or_default(),
        ground,
        problem: None,
    };
    let mut stream = match volume.open(entry.id, "") {
        Ok(stream) => stream,
        Err(error) => {
            preview.problem = Some(error.to_string());
            return preview;
        }
    };
    (preview.bytes, preview.whole) = read_whole(stream.as_mut(), PREVIEW_BYTES);
    let pictured = preview.bytes.starts_with(b"\x89PNG\r\n\x1a\n") || preview.bytes.starts_with(b"\xff\xd8\xff");
    if pictured && stream.bytes() <= PICTURE_BYTES as u64 {
        let (bytes, _) = read_whole(stream.as_mut(), PICTURE_BYTES);
        match decode(&bytes) {
            Ok(picture) => {
                preview.picture_size = Some((picture.width(), picture.height()));
                preview.picture = in_cells(&picture, size);
            }
            Err(error) => preview.problem = Some(format!("the picture does not decode: {error}")),
        }
    }
    preview
}

/// The picture in whole character cells, as large as `size` allows.
fn in_cells(picture: &image::DynamicImage, size: Size) -> Option<Protocol> {
    let picker = Picker::halfblocks();
    let (wide, high) = picker.font_size();
    let room = (u32::from(size.width) * u32::from(wide), u32::from(size.height) * u32::from(high));
    let scale =
        f64::min(f64::from(room.0) / f64::from(picture.width().max(1)), f64::from(room.1) / f64::from(picture.height().max(1)));
    let cells =
        |pixels: u32, cell: u16, most: u16| ((f64::from(pixels) * scale / f64::from(cell)).round() as u16).clamp(1, most.max(1));
    let fitted = Size::new(cells(picture.width(), wide, size.width), cells(picture.height(), high, size.height));
    let whole = picture.resize_exact(
        u32::from(fitted.width) * u32::from(wide),
        u32::from(fitted.height) * u32::from(high),
        FilterType::Triangle,
    );
    picker.new_protocol(whole, fitted.into(), Resize::Fit(None)).ok()
}

/// Decodes a picture under limits: a hostile one must not fill memory.
fn decode(bytes: &[u8]) -> image::ImageResult<image::DynamicImage> {
    let mut reader = image::ImageReader::new(std::io::Cursor::new(bytes)).with_guessed_format()?;
    let mut limits = image::Limits::default();
    limits.max_image_width = Some(PICTURE_SIDE);
    limits.max_image_height = Some(PICTURE_SIDE);
    limits.max_alloc = Some(96 << 20);
    reader.limits(limits);
    reader.decode()
}
