//! Devices of this machine that come and go while the screens are open.

use keel_core::job::{Job, Message};
use keel_core::yard::{self, Berth, Group};

use super::App;
use super::effect::tell;
use super::opening::Yard;

impl App {
    /// Begins to listen, where the yard has the devices of this machine.
    pub(super) fn watch_devices(&mut self) {
        if matches!(self.yard, Yard::Folder(_)) {
            self.device_watch = Some(Job::start(yard::watch));
        }
    }

    /// Takes who came and who is gone.
    pub(crate) fn take_devices(&mut self) {
        for message in self.device_watch.as_mut().map(Job::drain).unwrap_or_default() {
            match message {
                Message::Progress(devices) => self.take_device_list(devices),
                // Without it the yard is as it was: R asks anew.
                Message::Done(()) | Message::Died(_) => self.device_watch = None,
            }
        }
    }

    fn take_device_list(&mut self, devices: Vec<Berth>) {
        // The yard of a folder has no devices before it was asked; what was opened by hand is a drive like any other.
        let is_own = |berth: &Berth| berth.group == Group::Device;
        let before: Vec<Berth> = self.berths.iter().filter(|berth| is_own(berth)).cloned().collect();
        let opened = |berth: &Berth| self.berths.iter().any(|other| !is_own(other) && other.path == berth.path);
        let after: Vec<Berth> = devices.into_iter().filter(|berth| !opened(berth)).collect();
        let changes = yard::changes(&before, &after);
        let selected = self.berths.get(self.berth).map(|berth| berth.path.clone());
        self.berths.retain(|berth| !is_own(berth));
        self.berths.extend(after);
        let same = self.berths.iter().position(|berth| Some(&berth.path) == selected.as_ref());
        self.berth = same.unwrap_or(0);
        if same.is_none() {
            self.look_up_case();
        }
        if !changes.is_empty() {
            self.run(tell(changes.join(" · ")));
        }
    }
}

#[cfg(test)]
mod tests {
    use std::path::PathBuf;

    use super::*;

    fn device(name: &str) -> Berth {
        Berth { group: Group::Device, ..Berth::bare(PathBuf::from("/dev").join(name)) }
    }

    #[test]
    fn who_comes_is_told_and_the_selected_drive_stays_selected() {
        let drives = vec![Berth::bare("/bench/quay.img".into()), device("sdq"), device("sdr")];
        let mut app = App::new(drives, None);
        app.berth = 2;
        app.take_device_list(vec![device("sdp"), device("sdr")]);
        let names = |app: &App| app.berths.iter().map(|berth| berth.path.display().to_string()).collect::<Vec<_>>();
        assert_eq!(names(&app), ["/bench/quay.img", "/dev/sdp", "/dev/sdr"]);
        assert_eq!(app.berth, 2, "the same drive, at another row");
        assert_eq!(app.told.as_deref(), Some("/dev/sdq is gone · /dev/sdp was plugged in"));
        app.take_device_list(vec![device("sdp")]);
        assert_eq!(app.berth, 0, "the one that was selected is gone");
        app.told = None;
        app.take_device_list(vec![device("sdp")]);
        assert_eq!(app.told, None, "nothing changed");
    }
}
