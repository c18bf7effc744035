//! `cargo xtask dist`: a release folder (binary, manual pages, completions, licences, guides) and an archive of it.

use std::fs;
use std::path::Path;
use std::process::Command;

use anyhow::{Context, ensure};

use crate::guest::{root, run};

/// Shells whose completions go along, with the file each of them looks for.
const SHELLS: [(&str, &str); 3] = [("bash", "ykeel.bash"), ("zsh", "_ykeel"), ("fish", "ykeel.fish")];
/// What lies at the root and goes along.
const TEXTS: [&str; 5] = ["README.md", "CHANGELOG.md", "CONTRIBUTING.md", "LICENSE-MIT", "LICENSE-APACHE"];

/// Makes `target/dist/ykeel-VERSION-ARCH` and the archive beside it.
pub(crate) fn make() -> anyhow::Result<()> {
    run("cargo", &["build", "--release", "--quiet", "--package", "ykeel"])?;
    let ykeel = root().join("target/release/ykeel");
    let dist = root().join("target/dist");
    let name = format!("ykeel-{}-{}", env!("CARGO_PKG_VERSION"), std::env::consts::ARCH);
    let folder = dist.join(&name);
    // What an earlier run put there must not go along.
    let _ = fs::remove_dir_all(&folder);
    fs::create_dir_all(folder.join("completions"))?;
    fs::copy(&ykeel, folder.join("ykeel")).context("the binary cannot be copied")?;
    let pages = folder.join("man/man1");
    output(&ykeel, &["manual", "--to", pages.to_str().context("the folder's name is no text")?])?;
    for (shell, file) in SHELLS {
        fs::write(folder.join("completions").join(file), output(&ykeel, &["completions", shell])?)?;
    }
    for text in TEXTS {
        fs::copy(root().join(text), folder.join(text)).with_context(|| format!("{text} cannot be copied"))?;
    }
    copy_below(&root().join("docs"), &folder.join("docs"))?;
    let archive = format!("{name}.tar.gz");
    let status = Command::new("tar").args(["-czf", &archive, &name]).current_dir(&dist).status().context("cannot start tar")?;
    ensure!(status.success(), "tar could not make {archive}");
    println!("{}", folder.display());
    println!("{}", dist.join(archive).display());
    Ok(())
}

/// What `program` prints.
fn output(program: &Path, arguments: &[&str]) -> anyhow::Result<Vec<u8>> {
    let done = Command::new(program).args(arguments).output().with_context(|| format!("cannot start {}", program.display()))?;
    ensure!(done.status.success(), "{}: {}", arguments.join(" "), String::from_utf8_lossy(&done.stderr));
    Ok(done.stdout)
}

fn copy_below(from: &Path, to: &Path) -> anyhow::Result<()> {
    fs::create_dir_all(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let target = to.join(entry.file_name());
        if entry.file_type()?.is_dir() {
            copy_below(&entry.path(), &target)?;
        } else {
            fs::copy(entry.path(), target)?;
        }
    }
    Ok(())
}
