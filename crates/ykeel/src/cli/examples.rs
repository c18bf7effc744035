//! Examples of each command, as `--help` ends with them: the drives are those of the Brackwater Line's demo.

/// The screens.
pub(super) const SCREENS: &str = "\
Examples:
  ykeel                                    the drives of this folder as a yard
  ykeel demo-yard                          those of another one
  ykeel purser-stick.img engine-log.drive.toml
  ykeel --theme light --color 16 mess-room.drive.toml";
/// `yard`.
pub(super) const YARD: &str = "\
Examples:
  ykeel yard demo-yard                     a line for each drive
  ykeel yard demo-yard --devices --json    those of this system too, for a script";
/// `ladder`.
pub(super) const LADDER: &str = "\
Examples:
  ykeel ladder purser-stick.img            which rung is broken?
  ykeel ladder mess-room.drive.toml --json";
/// `sweep`.
pub(super) const SWEEP: &str = "\
Examples:
  ykeel sweep purser-stick.img             landmarks, and the surface where they leave doubt
  ykeel sweep engine-log.drive.toml --reach surface
  ykeel sweep fleet-register.img --scheme mbr --drop n3
  ykeel sweep purser-stick.img --set \"n2=start 6146048 length 18432000\"";
/// `copy`.
pub(super) const COPY: &str = "\
Examples:
  ykeel copy mess-room.drive.toml mess-room-copy.img
  ykeel copy mess-room.drive.toml mess-room-copy.img --volumes-first --stop-minutes 60
  ykeel copy mess-room.drive.toml mess-room-copy.img --verify";
/// `mend`.
pub(super) const MEND: &str = "\
Examples:
  ykeel mend purser-stick.img              the plan; nothing is written
  ykeel mend purser-stick.img --apply --confirm 3HK-2QD
  ykeel mend winch-room.drive.toml --save-as winch-room-mended.img
  ykeel mend dry-dock.img --take \"n1/FAT32 boot sector=computed\"
  ykeel mend dry-dock.img --take \"n1/FAT32 boot sector.BPB_SecPerClus=value:8\"
  ykeel mend purser-stick.img --without table/MBR";
/// `renew`.
pub(super) const RENEW: &str = "\
Examples:
  ykeel renew galley.img                   the table and its free ground; nothing is written
  ykeel renew galley.img --table gpt --add exfat,label=GALLEY
  ykeel renew galley.img --table gpt --add ntfs,size=60%,label=OFFICE --add ext4,size=rest
  ykeel renew galley.img --for windows,television --written-by windows --largest-file 20GB
  ykeel renew galley.img --recipe stick=GALLEY
  ykeel renew galley.img --convert gpt --apply --confirm 3HK-2QD
  ykeel renew galley.img --table none --add fat32,label=GALLEY --save-as ready.img";
/// `wipe`.
pub(super) const WIPE: &str = "\
Examples:
  ykeel wipe galley.img                    what would be lost, and the drive's code; nothing is written
  ykeel wipe galley.img --yes --words \"overwrite it\" --certificate galley-wiped.pdf
  ykeel wipe galley.img --free --pattern random --yes --words \"overwrite it\"
  ykeel wipe galley.img --range 0..1MiB --verify all --confirm 3HK-2QD --words \"overwrite it\"";
/// `check`.
pub(super) const CHECK: &str = "\
Examples:
  ykeel check wheelhouse.img               every rule of every volume
  ykeel check wheelhouse.img --volume n1 --json";
/// `structures`.
pub(super) const STRUCTURES: &str = "\
Examples:
  ykeel structures deck-camera.img --volume n1
  ykeel structures deck-camera.img --volume table --json";
/// `prove`.
pub(super) const PROVE: &str = "\
Examples:
  ykeel prove galley.img --volume n1       the system's own driver lists and reads it too
  ykeel prove galley.img --volume n1 --json";
/// `attach`.
pub(super) const ATTACH: &str = "\
Examples:
  ykeel attach galley.img                  every volume, below a folder that is told
  ykeel attach /dev/sdc --volume n2 --at /mnt/office";
/// `detach`.
pub(super) const DETACH: &str = "\
Examples:
  ykeel detach galley.img
  ykeel detach /dev/sdc --volume n2";
/// `release`.
pub(super) const RELEASE: &str = "\
Examples:
  ykeel release /dev/sdc                   then it can be pulled";
/// `undo`.
pub(super) const UNDO: &str = "\
Examples:
  ykeel undo purser-stick.undo             put the drive back as it was before the apply";
/// `files`.
pub(super) const FILES: &str = "\
Examples:
  ykeel files purser-stick.img --volume n2
  ykeel files purser-stick.img --volume n2 Pictures --deleted
  ykeel files purser-stick.img --volume n2 --find \"sort:pictures >100K since:2024\"
  ykeel files mess-room-copy.img --missing";
/// `extract`.
pub(super) const EXTRACT: &str = "\
Examples:
  ykeel extract purser-stick.img --volume n2 --to taken-out
  ykeel extract purser-stick.img --volume n2 Pictures \"Voyage register.csv\" --to taken-out
The same command again goes on with what was stopped.";
/// `adrift`.
pub(super) const ADRIFT: &str = "\
Examples:
  ykeel adrift linen-store.img
  ykeel adrift linen-store.img --kinds pictures,pdf --least 4kB --state whole,plausible
  ykeel extract linen-store.img --adrift --kinds pictures --to taken-out";
/// `report`.
pub(super) const REPORT: &str = "\
Examples:
  ykeel report mess-room.drive.toml --out mess-room.pdf
  ykeel report mess-room.drive.toml --for client --language de --out mess-room.html
  ykeel report mess-room.drive.toml --for court --out mess-room-court.pdf
  ykeel report mess-room.drive.toml --out keel.svg --drawing keel";
/// `case`.
pub(super) const CASE: &str = "\
Examples:
  ykeel case open mess-room.drive.toml --client \"Purser\" --symptom raw
  ykeel case tell mess-room.drive.toml \"error 0x8007045D\"
  ykeel case check mess-room.drive.toml other_cable no
  ykeel case show mess-room.drive.toml";
/// `health`.
pub(super) const HEALTH: &str = "\
Examples:
  ykeel health mess-room.drive.toml
  ykeel health /dev/sdc --self-test extended --wait";
/// `reads`.
pub(super) const READS: &str = "\
Examples:
  ykeel reads mess-room.drive.toml         samples, in seconds
  ykeel reads mess-room.drive.toml --full --minutes 30";
/// `bytes`.
pub(super) const BYTES: &str = "\
Examples:
  ykeel bytes purser-stick.img             the first sector, and what it is
  ykeel bytes galley.img \"lba 2048\" --whose
  ykeel bytes galley.img 0 --find \"hex: 55 aa\"
  ykeel bytes galley.img 50% --find register --back";
/// `fathom`.
pub(super) const FATHOM: &str = "\
Examples:
  ykeel fathom tide-stick.drive.toml --estimate
  ykeel fathom tide-stick.drive.toml --confirm 3HK-2QD";
/// `config`.
pub(super) const CONFIG: &str = "\
Examples:
  ykeel config                             the settings, and the file that they come from
  ykeel config --json";
/// `demo`.
pub(super) const DEMO: &str = "\
Examples:
  ykeel demo                               lay the drives out, and open the screens
  ykeel demo --dir yard --fresh --no-screens";
/// `completions`.
pub(super) const COMPLETIONS: &str = "\
Examples:
  ykeel completions bash > ~/.local/share/bash-completion/completions/ykeel";

/// `widen`.
pub(super) const WIDEN: &str = "\
Examples:
  ykeel widen slipway.drive.toml           what is hidden, and the codes
  ykeel widen slipway.drive.toml --apply --confirm 3HK-2QD
  ykeel widen slipway.drive.toml --back --apply --confirm 7WD-4NE";

#[cfg(test)]
mod tests {
    use clap::{CommandFactory, Parser};

    use crate::cli::Cli;

    /// The words of a line as a shell takes them: quotes hold them together; what follows a wide gap, or leads into a file, is not
    /// theirs.
    fn words(line: &str) -> Vec<String> {
        let line = line.split(" > ").next().unwrap();
        let line = line.trim_start().split("   ").next().unwrap();
        let parts = line.split('"').enumerate();
        parts
            .flat_map(|(index, part)| match index % 2 {
                1 => vec![part.to_string()],
                _ => part.split_whitespace().map(ToString::to_string).collect(),
            })
            .collect()
    }

    #[test]
    fn every_command_ends_its_help_with_examples_that_are_right() {
        let mut seen = 0;
        let main = Cli::command();
        let all = std::iter::once(&main).chain(main.get_subcommands().filter(|command| !command.is_hide_set()));
        for command in all {
            let help =
                command.get_after_long_help().unwrap_or_else(|| panic!("{} has no example", command.get_name())).to_string();
            for line in help.lines().filter(|line| line.starts_with("  ykeel")) {
                let parsed = Cli::try_parse_from(words(line)).unwrap_or_else(|error| panic!("{line}: {error}"));
                let own = command.get_name() == "ykeel" || parsed.command.is_some();
                assert!(own && (command.get_name() == "ykeel" || line.contains(command.get_name())), "{line}");
                seen += 1;
            }
        }
        assert!(seen > 40, "{seen}");
    }
}
