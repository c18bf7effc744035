//! The order of the board: which drives are shown, under which head, and how they are sorted.

use keel_core::yard::{Berth, Device, Group};
use keel_source::printable;

use crate::app::App;
use crate::line_edit::LineEdit;

/// What the board is sorted by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum Column {
    /// What is in work, what waits, what is done.
    #[default]
    Group,
    Name,
    Size,
    Link,
    Client,
    Rungs,
    Next,
}

impl Column {
    /// All, in the order of the key that goes through them.
    pub(super) const ALL: [Self; 7] = [Self::Group, Self::Name, Self::Size, Self::Link, Self::Client, Self::Rungs, Self::Next];

    /// The word at its head.
    pub(super) fn word(self) -> &'static str {
        match self {
            Self::Group => "group",
            Self::Name => "drive",
            Self::Size => "size",
            Self::Link => "link",
            Self::Client => "client",
            Self::Rungs => "rungs",
            Self::Next => "next",
        }
    }
}

/// How the board is looked at.
#[derive(Debug, Default)]
pub(crate) struct Board {
    pub(crate) sort: Column,
    pub(crate) reversed: bool,
    /// What the shown drives hold in one of their words.
    pub(crate) filter: LineEdit,
    /// True while keys go to the filter.
    pub(crate) typing: bool,
}

/// A line of the board.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Line {
    /// The head of a group, and how many drives it has.
    Head(Group, usize),
    /// A drive, by its number in the yard.
    Drive(usize),
}

/// The name of a drive on the board: the file's, without the ending that all images have.
pub(super) fn name(berth: &Berth) -> String {
    let name = printable(&berth.path.file_name().unwrap_or_default().to_string_lossy());
    name.trim_end_matches(".drive.toml").trim_end_matches(".img").to_string()
}

/// That name, with its folder where another drive has the same.
pub(super) fn own_name(app: &App, berth: &Berth) -> String {
    let own = name(berth);
    let alike = app.berths.iter().filter(|other| name(other) == own).count() > 1;
    let folder = berth.path.parent().and_then(|folder| folder.file_name()).filter(|_| alike);
    folder.map_or(own.clone(), |folder| format!("{own} ({})", printable(&folder.to_string_lossy())))
}

/// How a drive is attached, in a short word.
pub(super) fn link(berth: &Berth) -> &'static str {
    use keel_source::{LinkKind, Transport};
    match (&berth.identity, &berth.device) {
        (_, Some(device)) => match device.attachment.transport {
            Transport::Ata => "sata",
            Transport::Usb | Transport::Uas => "usb",
            Transport::Nvme => "nvme",
            Transport::Scsi => "scsi",
            Transport::Mmc => "card",
            Transport::Loop => "loop",
            Transport::Virtio | Transport::Other => "dev",
        },
        (Some(identity), None) => match identity.link {
            LinkKind::Image => "img",
            LinkKind::BlockDevice => "dev",
            LinkKind::Simulated => "sim",
            LinkKind::Derived => "view",
        },
        (None, None) => "-",
    }
}

/// Its length in bytes.
pub(super) fn bytes(berth: &Berth) -> u64 {
    let device = berth.device.as_ref().map(|device| device.bytes);
    berth.identity.as_ref().map(|identity| identity.bytes).or(device).unwrap_or(0)
}

/// Whose it is, or what was told of it.
pub(super) fn told(berth: &Berth) -> String {
    let words = berth.device.as_ref().map(Device::words).filter(|words| !words.is_empty());
    printable(&berth.client.clone().or(words).or_else(|| berth.symptom.clone()).unwrap_or_default())
}

/// The drives that are shown, in their order.
pub(super) fn order(app: &App) -> Vec<usize> {
    let words: Vec<String> = app.board.filter.text().split_whitespace().map(str::to_lowercase).collect();
    let shown = |berth: &Berth| {
        let sight = berth.sight.as_ref();
        let lowest = sight.and_then(|sight| sight.lowest.clone()).unwrap_or_default();
        let next = sight.map(|sight| sight.next.clone()).unwrap_or_default();
        let said =
            format!("{} {} {} {lowest} {next} {}", name(berth), told(berth), link(berth), berth.group.word()).to_lowercase();
        words.iter().all(|word| said.contains(word))
    };
    let mut order: Vec<usize> = (0..app.berths.len()).filter(|index| app.berths.get(*index).is_some_and(shown)).collect();
    let rungs = |berth: &Berth| {
        let sight = berth.sight.as_ref();
        let broken =
            sight.map(|sight| sight.rungs.iter().position(|state| *state == keel_core::ladder::RungState::Broken).unwrap_or(9));
        broken.unwrap_or(10)
    };
    order.sort_by(|one, other| {
        let (Some(one), Some(other)) = (app.berths.get(*one), app.berths.get(*other)) else { return one.cmp(other) };
        let by_name = || name(one).cmp(&name(other));
        // Whose name it is comes before those of whom it was told.
        let is_named = |berth: &Berth| words.iter().all(|word| name(berth).to_lowercase().contains(word));
        let named = is_named(other).cmp(&is_named(one));
        let sorted = match app.board.sort {
            Column::Group => one.group.cmp(&other.group),
            Column::Name => by_name(),
            Column::Size => bytes(other).cmp(&bytes(one)),
            Column::Link => link(one).cmp(link(other)),
            Column::Client => told(one).cmp(&told(other)),
            Column::Rungs => rungs(one).cmp(&rungs(other)),
            Column::Next => {
                let next = |berth: &Berth| berth.sight.as_ref().map(|sight| sight.next.clone());
                next(one).cmp(&next(other))
            }
        };
        let sorted = if app.board.reversed { sorted.reverse() } else { sorted };
        named.then(sorted).then_with(by_name)
    });
    order
}

/// The lines of the board: drives, under the heads of their groups where they are sorted by these.
pub(super) fn lines(app: &App) -> Vec<Line> {
    let order = order(app);
    if app.board.sort != Column::Group || !app.board.filter.text().is_empty() {
        return order.into_iter().map(Line::Drive).collect();
    }
    let group = |index: &usize| app.berths.get(*index).map(|berth| berth.group);
    order
        .chunk_by(|one, other| group(one) == group(other))
        .flat_map(|drives| {
            let head = drives.first().and_then(group).map(|group| Line::Head(group, drives.len()));
            head.into_iter().chain(drives.iter().map(|index| Line::Drive(*index)))
        })
        .collect()
}
