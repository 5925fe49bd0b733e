//! `zsap demo`: the sample world, built with the same commands that it shows.

mod guest;

use std::env::temp_dir;
use std::path::{Path, PathBuf};

use clap::Parser;
use zestful_sapling::Error;
use zestful_sapling::family::Family;
use zestful_sapling::ops::Plan;

use super::io;
use crate::args::Args;
use crate::args::demo::Demo;
use crate::console::Console;
use crate::exit::{Failure, Outcome};
use crate::report::json::Tree;
use crate::report::text;

/// Where the demo puts its notes: past the volume, on a part of the disk that nothing else uses.
const NOTE_AT: &str = "1500M";
const LATER_NOTE_AT: &str = "1600M";
/// What the sample world takes at most.
const MOST_SPACE: u64 = 192 << 20;

pub(super) fn run(console: &Console, typed: &Demo) -> Result<Outcome, Failure> {
    let folder = typed.folder.clone().unwrap_or_else(fresh_folder);
    if console.show_plan(&plan(&folder))? {
        return Ok(Outcome::Done);
    }
    create_folder(&folder)?;
    let place = folder.canonicalize().map_err(|e| io("look up", &folder, e))?;
    // The commands below are shown as they would be typed there.
    std::env::set_current_dir(&folder).map_err(|e| io("enter", &folder, e))?;
    let stage = Stage { console };

    stage.tell(&[
        "Harrow Fen Seed Bank keeps its germination machines on disks grown from one base image.",
        "Everything here is made up and lies in the folder",
        &format!("  {}", text::path(&folder)),
    ])?;
    stage.tell(&["1. A base disk. It promises 2 GiB and takes next to nothing until a guest writes to it."])?;
    stage.zsap(&["make", "fen-base.vhdx", "2G"])?;
    stage.tell(&["   It gets a partition table and a FAT volume with the seed records of this folder in it."])?;
    guest::write_records(Path::new("seed-records"))?;
    stage.zsap(&["prepare", "fen-base.vhdx", "--volume", "1G,fs=fat,label=HARROW FEN,fill=seed-records"])?;
    stage.zsap(&["show", "fen-base.vhdx"])?;
    let before = read_file("fen-base.vhdx")?;

    stage.tell(&["   The base is pinned: it is never to change, and its digests will prove that it did not."])?;
    stage.zsap(&["pin", "fen-base.vhdx"])?;

    stage.tell(&["2. Three machines grow from it. Each file holds only what differs from the base."])?;
    stage.zsap(&["derive", "fen-base.vhdx", "germination-01.vhdx", "germination-02.vhdx", "germination-03.vhdx"])?;
    stage.tell(&["   (The guest on germination-01 adds its own records.)"])?;
    guest::add_observations("germination-01.vhdx")?;
    std::fs::write("note.txt", "tray 7 moved to the cold frame\n")
        .map_err(|e| io("write", Path::new("note.txt"), e))?;
    stage.zsap(&["bytes", "write", "germination-02.vhdx", "--at", NOTE_AT, "-i", "note.txt"])?;
    stage.zsap(&["tree"])?;

    stage.tell(&["3. The base never changed: writing to it is refused, and it is byte for byte what it was."])?;
    stage.refused(&["bytes", "write", "fen-base.vhdx", "--at", "0", "-i", "note.txt"])?;
    if read_file("fen-base.vhdx")? != before {
        let message = "the base changed while its children were written to";
        return Err(Error::usage(message, "this must never happen: please report it").into());
    }
    stage.zsap(&["check", "germination-01.vhdx", "germination-02.vhdx", "germination-03.vhdx"])?;

    stage.tell(&["4. Before a risky change germination-02 gets a layer of its own, and goes on in that."])?;
    stage.zsap(&["derive", "germination-02.vhdx", "after-frost.vhdx"])?;
    stage.zsap(&["bytes", "write", "after-frost.vhdx", "--at", LATER_NOTE_AT, "-i", "note.txt"])?;
    stage.tell(&["   All went well, so the layer is merged away; nothing that the guest sees changes."])?;
    stage.zsap(&["merge", "after-frost.vhdx", "--keep-name", "parent"])?;
    stage.zsap(&["pin", "fen-base.vhdx", "--verify"])?;
    stage.zsap(&["status", "."])?;

    stage.tell(&["5. A machine is handed on: its whole chain becomes one raw disk that needs no base."])?;
    stage.zsap(&["copy", "germination-01.vhdx", "germination-01.raw"])?;
    let records = guest::list("germination-01.raw")?;
    stage.tell(&[&format!(
        "   (Its volume holds {}, its own observations among them.)",
        text::count(records, "file", "files")
    )])?;
    stage.tell(&["   What is inside can be read from here, too: without its guest, without mounting."])?;
    stage.zsap(&["files", "list", "germination-01.vhdx", "/observations"])?;
    stage.tell(&["6. A look into germination-01 with this host's own tools: the disk and its partition are files."])?;
    look_at_files(&stage)?;
    stage
        .tell(&["7. The herbarium machine has two disks. Before an upgrade a checkpoint keeps both, at one moment."])?;
    herbarium(&stage)?;
    stage.tell(&["8. A copy of germination-03 was torn on its way: a header is damaged, and the end is missing."])?;
    torn(&stage)?;
    stage.tell(&[
        "What to try next, in that folder:",
        "  zsap show .                                  one line an image, and the totals",
        "  zsap derive germination-02.vhdx after.vhdx   a layer on a layer",
        "  zsap merge germination-02.vhdx --plan        why a base with other children cannot be merged",
        "  mv fen-base.vhdx moved.vhdx; zsap tree       what a lost parent looks like",
        "All of it lies in this folder, and nothing anywhere else; when you have seen enough:",
        &format!("  rm -r {}", text::safe(&place.to_string_lossy())),
    ])?;
    if console.json() {
        console.document(&Tree::from(&Family::of_folder(Path::new("."))?))?;
    }
    Ok(Outcome::Done)
}

/// A machine with two disks: a checkpoint, damage, a look back, the way back, and the end of what is not needed.
fn herbarium(stage: &Stage<'_>) -> Result<(), Failure> {
    stage.zsap(&["grove", "new", "herbarium", "--machine", "herbarium"])?;
    for disk in ["herbarium/system.vhdx", "herbarium/records.vhdx"] {
        stage.zsap(&["make", disk, "4G"])?;
        stage.zsap(&["grove", "add", "herbarium", disk])?;
    }
    stage.zsap(&["prepare", "herbarium", "--disk", "records", "--volume", "1G,fs=fat,label=SHEETS"])?;
    let install = |text: &str| guest::write("herbarium/system.vhdx", 1 << 20, &text.repeat(4096));
    let enter = |text: &str| guest::enter("herbarium/records.vhdx", "collection.txt", text);
    stage.tell(&["   (The guest installs its system, and enters the first sheets of the collection.)"])?;
    install("catalogue program 1.0\n")?;
    enter("sheet 1: Caltha palustris\n")?;
    let note = "catalogue program 1.0";
    stage.zsap(&["checkpoint", "take", "herbarium", "before-upgrade", "--note", note])?;
    stage.tell(&["   (The upgrade goes wrong: the new program overwrites the sheets.)"])?;
    install("catalogue program 2.0\n")?;
    enter("sheet 1: ?????? ?????????\n")?;
    let at = ["--disk", "records", "--checkpoint", "before-upgrade", "--contents"];
    stage.zsap(&[&["diff", "herbarium"][..], &at].concat())?;
    stage.tell(&["   Which files that is:"])?;
    stage.zsap(&[&["files", "diff", "herbarium"][..], &at].concat())?;
    stage.tell(&["   The sheets are still there, at the checkpoint: one file of it is all that is wanted."])?;
    let get = ["files", "get", "herbarium", "/collection.txt"];
    let at = ["--disk", "records", "--checkpoint", "before-upgrade"];
    stage.elsewhere(&[&get[..], &["-"], &at].concat())?;
    stage.zsap(&[&get[..], &["restored"], &at].concat())?;
    stage.tell(&["   So the machine goes back, on both disks; what went wrong is kept for a closer look."])?;
    stage.zsap(&["checkpoint", "revert", "herbarium", "before-upgrade", "--keep-as", "failed-upgrade"])?;
    stage.zsap(&["checkpoint", "list", "herbarium"])?;
    stage.tell(&[
        "   The disk for the sheets is too small: it grows, and its partition. Checkpoints keep the size they have.",
    ])?;
    stage.zsap(&["resize", "herbarium", "--disk", "records", "--by", "+2G", "--extend-partition"])?;
    stage.tell(&["   When nobody needs it any more, it is forgotten."])?;
    stage.elsewhere(&["checkpoint", "forget", "herbarium", "failed-upgrade", "--plan"])?;
    stage.zsap(&["checkpoint", "forget", "herbarium", "failed-upgrade"])?;
    stage.tell(&["   (The guest writes an export of 48 MiB there, and deletes it again: the file stays as large.)"])?;
    guest::enter_and_delete("herbarium/records.vhdx", "export.bin", 48 << 20)?;
    stage.zsap(&["compact", "herbarium", "--disk", "records", "--unused"])?;
    stage.zsap(&["tree", "herbarium"])?;
    Ok(())
}

/// A damaged image: what is wrong, what can be mended for certain, what is given up, and the way back.
fn torn(stage: &Stage<'_>) -> Result<(), Failure> {
    const TORN: &str = "torn.vhdx";
    stage.zsap(&["copy", "germination-03.vhdx", TORN])?;
    let spoil = || {
        let file = std::fs::OpenOptions::new().write(true).open(TORN)?;
        std::os::unix::fs::FileExt::write_at(&file, b"????", 128 << 10)?;
        file.set_len(file.metadata()?.len() - (3 << 19))
    };
    spoil().map_err(|e| io("damage", Path::new(TORN), e))?;
    stage.elsewhere(&["check", TORN, "--impact"])?;
    stage.elsewhere(&["repair", TORN, "--lossy=vhdx-block-outside", "--plan"])?;
    stage.elsewhere(&["repair", TORN, "--lossy=vhdx-block-outside", "--yes"])?;
    stage
        .tell(&["   A better copy has turned up: the repair is taken back, and then the torn file is thrown away."])?;
    stage.elsewhere(&["repair", TORN, "--undo", "--yes"])?;
    std::fs::remove_file(TORN).map_err(|e| io("remove", Path::new(TORN), e))?;
    Ok(())
}

/// Shows a disk as files, where this host lets this user do that.
fn look_at_files(stage: &Stage<'_>) -> Result<(), Failure> {
    create_folder(Path::new("shown"))?;
    if !stage.elsewhere(&["expose", "germination-01.vhdx", "shown", "--background"])? {
        stage.tell(&["   (This host does not let this user; `zsap serve` works everywhere.)"])?;
        return Ok(());
    }
    let records = guest::list_file("shown/part1");
    if let Ok(records) = &records {
        let records = text::count(*records, "file", "files");
        stage.tell(&[&format!("   (Through the file shown/part1 the volume holds {records} as well.)")])?;
    }
    stage.elsewhere(&["detach", "shown"])?;
    records?;
    Ok(())
}

fn plan(folder: &Path) -> Plan {
    let mut plan = Plan::default();
    plan.operation = "demo";
    plan.steps.push(format!("make the folder {}", folder.display()));
    plan.steps.push("make the sample world in it, and walk through that".to_owned());
    plan.files.create.push(folder.to_owned());
    (plan.bytes_written, plan.peak_extra_space) = (MOST_SPACE, MOST_SPACE);
    plan
}

/// The first of harrow-fen, harrow-fen-2, ... in the host's temporary folder that is not there yet.
fn fresh_folder() -> PathBuf {
    let numbered = (2u32..).map(|number| format!("harrow-fen-{number}"));
    let mut names = std::iter::once("harrow-fen".to_owned()).chain(numbered).map(|name| temp_dir().join(name));
    names.find(|name| std::fs::symlink_metadata(name).is_err()).unwrap_or_default()
}

fn create_folder(folder: &Path) -> Result<(), Error> {
    std::fs::create_dir(folder).map_err(|e| io("create the folder", folder, e))
}

fn read_file(path: &str) -> Result<Vec<u8>, Error> {
    std::fs::read(path).map_err(|e| io("read", Path::new(path), e))
}

struct Stage<'a> {
    console: &'a Console,
}

impl Stage<'_> {
    fn tell(&self, lines: &[&str]) -> std::io::Result<()> {
        self.console.say(lines.iter().copied().chain([""]))
    }

    /// Shows a command and runs it.
    fn zsap(&self, words: &[&str]) -> Result<(), Failure> {
        self.show(words)?;
        self.run(words)?;
        self.console.say([""])?;
        Ok(())
    }

    /// Shows a command and runs it in a process of its own; whether it did well.
    fn elsewhere(&self, words: &[&str]) -> Result<bool, Failure> {
        self.show(words)?;
        let output = std::process::Command::new(std::env::current_exe()?).args(words).output()?;
        let told = String::from_utf8_lossy(&output.stdout);
        self.console.say(told.lines().chain([""]))?;
        Ok(output.status.success())
    }

    /// Shows a command that must be refused, and its refusal.
    fn refused(&self, words: &[&str]) -> Result<(), Failure> {
        self.show(words)?;
        match self.run(words) {
            Err(Failure::Library(error @ Error::Refused(..))) => {
                let told = text::wrapped(&format!("  refused: {}", text::safe(&error.with_causes())), "    ");
                self.console.say([told, String::new()])?;
                Ok(())
            }
            Err(other) => Err(other),
            Ok(()) => Err(Error::usage("a write to the base was not refused", "please report it").into()),
        }
    }

    fn show(&self, words: &[&str]) -> std::io::Result<()> {
        let typed = |word: &&str| if word.contains(' ') { format!("\"{word}\"") } else { (*word).to_owned() };
        let typed: Vec<String> = words.iter().map(typed).collect();
        self.console.say([self.console.strong(&format!("> zsap {}", typed.join(" ")))])
    }

    fn run(&self, words: &[&str]) -> Result<(), Failure> {
        let typed = std::iter::once("zsap").chain(words.iter().copied());
        let args = Args::try_parse_from(typed).map_err(|e| Error::usage(e.to_string(), "please report it"))?;
        super::run(&args, &self.console.for_part_of_demo())?;
        Ok(())
    }
}
