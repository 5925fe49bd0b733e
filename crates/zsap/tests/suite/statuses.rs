//! Every command, case by case: how it ends, as text and as JSON that keeps to its schema; and with `--plan` whatever
//! changes something changes nothing.

use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hasher};
use std::path::{Path, PathBuf};

use crate::scene::Scene;

/// What is typed, one after the other, and the status that it ends with. A `+` stands before what changes something.
const CASES: &str = "
    + 0 make fen-base.vhdx 64M
    4 make fen-base.vhdx 64M
    2 make fen-base.vhdx many
    2 make small.vhdx 70T
    1 make nowhere/records.vhdx 1G
    + 0 make records.vhdx 64M
    + 0 prepare records.vhdx --volume 16M,fs=fat,label=boot,fill=records --volume rest
    4 prepare records.vhdx --volume rest
    2 prepare records.vhdx --wipe --volume 1T
    + 0 derive fen-base.vhdx germination-01.vhdx germination-02.vhdx
    4 derive fen-base.vhdx germination-01.vhdx
    1 derive nothing.vhdx child.vhdx
    0 show fen-base.vhdx
    0 show .
    0 show . --recursive
    1 show nothing.vhdx
    0 tree
    0 tree germination-01.vhdx
    1 tree nothing.vhdx
    0 status
    1 status nowhere
    0 children fen-base.vhdx
    1 children nothing.vhdx
    4 bytes write fen-base.vhdx --at 0 -i seeds.txt
    + 0 bytes write germination-01.vhdx --at 1M -i seeds.txt
    2 bytes write germination-01.vhdx --at 64M -i seeds.txt
    0 bytes read germination-01.vhdx --at 1M --len 18
    2 bytes read germination-01.vhdx --at 1M --len 1T
    0 diff fen-base.vhdx germination-01.vhdx
    1 diff fen-base.vhdx nothing.vhdx
    + 0 pin fen-base.vhdx
    0 pin fen-base.vhdx --verify
    1 pin nothing.vhdx
    4 identity fen-base.vhdx --fresh
    + 0 unpin fen-base.vhdx
    1 unpin nothing.vhdx
    + 0 copy germination-01.vhdx full.vhd
    + 0 copy germination-01.vhdx vault --depth chain
    + 0 copy full.vhd germination-03.vhdx --onto fen-base.vhdx
    4 copy germination-01.vhdx full.vhd
    2 copy germination-01.vhdx small.raw --size 3M
    2 copy - small.raw --size 3M
    2 copy germination-01.vhdx -
    + 0 identity full.vhd --fresh
    + 0 compact records.vhdx --unused
    4 compact fen-base.vhdx --unused
    + 0 resize records.vhdx --to 96M
    2 resize records.vhdx --to 96M
    4 resize fen-base.vhdx --to 96M
    0 files list records.vhdx
    0 files find records.vhdx *.txt
    + 0 files get records.vhdx /HF-0001.txt taken
    2 files get records.vhdx /nothing.txt taken-too
    0 files list records.vhdx --deleted
    0 files diff records.vhdx records.vhdx --volume 1
    2 files list records.vhdx --volume 9
    + 0 move fen-base.vhdx oak-base.vhdx
    1 move nothing.vhdx ash.vhdx
    4 move oak-base.vhdx records.vhdx
    0 relink germination-01.vhdx
    1 relink nothing.vhdx
    + 0 derive germination-02.vhdx after-frost.vhdx
    + 0 merge after-frost.vhdx
    1 merge nothing.vhdx
    2 merge records.vhdx
    + 0 make ash-base.vhdx 64M
    + 0 transplant germination-03.vhdx ash-base.vhdx
    1 transplant nothing.vhdx ash-base.vhdx
    4 remove oak-base.vhdx
    + 0 remove germination-03.vhdx
    1 remove nothing.vhdx
    + 0 unfreeze ash-base.vhdx
    2 unfreeze records.vhdx
    2 resume records.vhdx
    2 abandon records.vhdx
    0 check records.vhdx germination-01.vhdx
    0 check . --recursive
    1 check nothing.vhdx
    3 check torn.vhdx
    3 status
    3 repair torn.vhdx
    + 3 salvage torn.vhdx saved.vhdx
    3 salvage torn.vhdx saved.vhdx
    4 salvage torn.vhdx records.vhdx
    0 repair records.vhdx
    1 repair nothing.vhdx
    + 0 grove new herbarium --machine herbarium
    4 grove new herbarium --machine herbarium
    + 0 make herbarium/records.vhd 64M
    + 0 grove add herbarium herbarium/records.vhd --label records
    2 grove add herbarium full.vhd
    1 grove add herbarium herbarium/nothing.vhd
    0 grove list herbarium
    1 grove list nowhere
    + 0 checkpoint take herbarium spring
    2 checkpoint take herbarium spring
    0 checkpoint list herbarium
    + 0 checkpoint note herbarium spring sown
    2 checkpoint note herbarium nothing sown
    + 0 checkpoint rename herbarium spring april
    + 0 checkpoint revert herbarium april --keep-as failed
    2 checkpoint revert herbarium nothing --discard
    2 checkpoint revert herbarium april
    + 0 checkpoint forget herbarium failed
    2 checkpoint forget herbarium nothing
    0 show herbarium --disk records
    2 show herbarium --disk nothing
    + 0 grove copy herbarium trial
    4 grove copy herbarium trial
    2 grove remove trial
    + 0 grove remove trial --yes
    + 0 grove rebuild herbarium
    + 0 grove release herbarium records
    1 serve nothing.vhdx
    1 expose nothing.vhdx nowhere
    0 attachments
    2 detach nothing
    0 settings
    0 words
    0 completions bash
    2 completions cmd
    + 0 manual pages
    + 0 demo world
    2 create fen-base.vhdx 1G";

/// How long a file is, when it was written, and a digest of what it holds.
type Found = (u64, std::time::SystemTime, Option<u64>);

/// Every file below a folder.
fn all_below(folder: &Path, found: &mut BTreeMap<PathBuf, Found>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let metadata = std::fs::symlink_metadata(&path).unwrap();
        if metadata.is_dir() {
            all_below(&path, found);
        }
        let digest = || {
            let mut hasher = DefaultHasher::new();
            hasher.write(&std::fs::read(&path).unwrap());
            hasher.finish()
        };
        let content = metadata.is_file().then(digest);
        found.insert(path, (metadata.len(), metadata.modified().unwrap(), content));
    }
}

#[test]
fn every_command_ends_as_it_should() {
    let scene = Scene::new();
    std::fs::create_dir(scene.path("records")).unwrap();
    std::fs::write(scene.path("records/HF-0001.txt"), "Caltha palustris\n").unwrap();
    let commands = scene.run("completions bash");
    let (mut run, mut wrong) = (std::collections::BTreeSet::new(), Vec::new());
    for case in CASES.lines().map(str::trim).filter(|case| !case.is_empty()) {
        let (changes, case) = case.strip_prefix("+ ").map_or((false, case), |case| (true, case));
        let (status, typed) = case.split_once(' ').unwrap();
        let status: i32 = status.parse().unwrap();
        run.insert(typed.split(' ').next().unwrap().to_owned());
        if typed == "check torn.vhdx" {
            std::fs::copy(scene.path("records.vhdx"), scene.path("torn.vhdx")).unwrap();
            std::fs::File::options().write(true).open(scene.path("torn.vhdx")).unwrap().set_len(5 << 20).unwrap();
        }
        if changes {
            let (mut before, mut after) = (BTreeMap::new(), BTreeMap::new());
            all_below(&scene.path(""), &mut before);
            let planned = scene.run(&format!("{typed} --plan --json"));
            all_below(&scene.path(""), &mut after);
            let same = before.iter().filter(|(path, is)| after.get(*path) != Some(is)).map(|(path, _)| path.clone());
            let touched: Vec<PathBuf> =
                same.chain(after.keys().filter(|path| !before.contains_key(*path)).cloned()).collect();
            // Folders are entered and left by locks; files are not touched.
            let touched: Vec<_> = touched.into_iter().filter(|path| !path.is_dir()).collect();
            if planned.status != 0 || !touched.is_empty() {
                wrong.push(format!("{typed} --plan: {} {}, touched {touched:?}", planned.status, planned.err));
            }
        }
        let ended = scene.run(&format!("{typed} --json"));
        if ended.status != status {
            wrong.push(format!("{typed}: {} instead of {status}: {}{}", ended.status, ended.out, ended.err));
        }
        // An error is said once, on standard error, and an answer on standard output alone.
        let is_answer = [0, 3, 5].contains(&ended.status);
        if is_answer == ended.out.is_empty() {
            wrong.push(format!("{typed} with {status}: out {:?}, err {:?}", ended.out, ended.err));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    let all = commands.out.split("opts=\"").nth(2).unwrap_or_default();
    let all: Vec<&str> = all.split('"').next().unwrap().split(' ').filter(|word| !word.starts_with('-')).collect();
    let missing: Vec<&&str> =
        all.iter().filter(|command| !command.is_empty() && !run.contains(**command) && **command != "help").collect();
    assert!(all.len() > 30 && missing.is_empty(), "no case for {missing:?} of {all:?}");
}
