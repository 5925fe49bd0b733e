//! Two or three examples of each command, set in the sample world.

/// What is typed behind `zsap`, and what that does, by the words of the command.
pub(super) const EXAMPLES: &[(&str, &[(&str, &str)])] = &[
    (
        "make",
        &[
            ("make fen-base.vhdx 64G", "a disk of 64 GiB that takes what it needs"),
            ("make records.vhd 500G --kind fixed", "one whose space is set aside at once"),
            ("make herbarium.vhdx --filled-from herbarium.raw", "one with the content of another"),
        ],
    ),
    (
        "derive",
        &[
            ("derive fen-base.vhdx germination-01.vhdx germination-02.vhdx", "two machines on one base"),
            ("derive germination-01.vhdx before-frost.vhdx --plan", "what that would do"),
        ],
    ),
    (
        "show",
        &[
            ("show germination-01.vhdx", "all about one image"),
            ("show .", "a line for each image of this folder"),
            ("show herbarium --disk records", "a disk of a machine"),
        ],
    ),
    ("tree", &[("tree", "all families in this folder"), ("tree germination-01.vhdx", "the chain of one image")]),
    (
        "copy",
        &[
            ("copy germination-01.vhdx germination-01.raw", "its chain as one raw file; - is a pipe"),
            ("copy germination-01.vhdx vault --depth chain --verify", "every layer, read back"),
            ("copy full.vhd germination-04.vhdx --onto fen-base.vhdx", "only what differs from a base"),
        ],
    ),
    (
        "relink",
        &[
            ("relink germination-01.vhdx", "find the parent again, by its identity"),
            ("relink germination-01.vhdx --search /srv/bases", "where it may be"),
            ("relink germination-01.vhdx fen-base.vhdx", "this is it"),
        ],
    ),
    (
        "transplant",
        &[
            ("transplant germination-01.vhdx fen-base-2.vhdx", "same content, another base"),
            ("transplant germination-01.vhdx fen-base-2.vhdx --plan", "what that would move"),
        ],
    ),
    (
        "merge",
        &[
            ("merge after-frost.vhdx --plan", "both ways, and what each would move"),
            ("merge after-frost.vhdx", "one layer less"),
            ("merge after-frost.vhdx --into fen-base.vhdx", "all layers down to an ancestor"),
        ],
    ),
    ("status", &[("status", "this folder at a glance"), ("status /srv/fen --json", "for monitoring: exit 0, 3 or 5")]),
    (
        "resume",
        &[
            ("resume germination-01.vhdx", "carry on a merge that was cut short"),
            ("resume herbarium", "the same for a machine"),
        ],
    ),
    (
        "abandon",
        &[
            ("abandon germination-01.vhdx --plan", "whether it can still be given up"),
            ("abandon germination-01.vhdx", "as it was before"),
        ],
    ),
    (
        "pin",
        &[
            ("pin fen-base.vhdx", "never to change"),
            ("pin fen-base.vhdx --verify", "whether it did, and who reads what changed"),
        ],
    ),
    ("unpin", &[("unpin fen-base.vhdx", "it may change again"), ("unpin fen-base.vhdx --plan", "what depends on it")]),
    (
        "unfreeze",
        &[
            ("unfreeze germination-02.vhdx", "its last child is gone: guests may write to it"),
            ("unfreeze germination-02.vhdx --search /srv", "look for children there, too"),
        ],
    ),
    (
        "diff",
        &[
            ("diff germination-01.vhdx germination-02.vhdx", "where they differ, by their tables"),
            ("diff fen-base.vhdx old-base.vhdx --contents", "by what they hold"),
            ("diff herbarium --disk records --checkpoint spring --files", "and which files that is"),
        ],
    ),
    (
        "prepare",
        &[
            ("prepare records.vhdx --volume rest,fs=ext4,label=records", "one volume"),
            ("prepare boot.vhdx --table mbr --volume 500M,fs=fat --volume rest", "two, in an MBR"),
        ],
    ),
    (
        "resize",
        &[
            ("resize records.vhdx --to 8G --extend-partition --extend-volume", "all of it follows"),
            ("resize records.vhdx --by +20G --plan", "what that would do"),
        ],
    ),
    (
        "compact",
        &[
            ("compact records.vhdx", "give back zeros, and make the file shorter"),
            ("compact records.vhdx --unused --plan", "what file systems mark as free, too"),
            ("compact records.vhdx --reorder", "blocks in the order of the disk"),
        ],
    ),
    (
        "files",
        &[
            ("files list herbarium.vhdx /collection", "a folder inside a disk"),
            ("files get herbarium.vhdx /collection restored", "take it out"),
        ],
    ),
    (
        "files list",
        &[
            ("files list herbarium.vhdx /collection", "a folder inside a disk"),
            ("files list herbarium --disk records --checkpoint spring /", "as it was at a checkpoint"),
            ("files list herbarium.vhdx --deleted", "what was deleted and is still there"),
        ],
    ),
    (
        "files find",
        &[
            ("files find herbarium.vhdx '*.csv' --newer 14d", "by name and age"),
            ("files find herbarium.vhdx '/scans/**' --larger 1G", "by place and size"),
        ],
    ),
    (
        "files get",
        &[
            ("files get herbarium.vhdx /collection.txt restored", "into the folder `restored`"),
            ("files get herbarium.vhdx /collection.txt - --volume 2", "to standard output"),
        ],
    ),
    (
        "files diff",
        &[
            ("files diff herbarium --disk records --checkpoint spring", "since that checkpoint"),
            ("files diff germination-01.vhdx germination-02.vhdx --contents", "two disks, by what files hold"),
        ],
    ),
    (
        "children",
        &[
            ("children fen-base.vhdx", "who depends on it"),
            ("children fen-base.vhdx --search /srv", "with what lies elsewhere"),
        ],
    ),
    (
        "move",
        &[
            ("move fen-base.vhdx base-2026.vhdx", "every child is told"),
            ("move fen-base.vhdx /srv/bases/ --plan", "into another folder: what that would do"),
        ],
    ),
    (
        "remove",
        &[
            ("remove germination-03.vhdx", "refused where something needs it"),
            ("remove germination-02.vhdx germination-03.vhdx --plan", "what would go"),
        ],
    ),
    (
        "identity",
        &[
            ("identity copied.vhdx --fresh", "no child takes it for its parent any more"),
            ("identity copied.vhdx --fresh --plan", "who would be told"),
        ],
    ),
    (
        "check",
        &[
            ("check germination-01.vhdx", "its structures, and those of all that it reads through"),
            ("check /srv/fen --data", "all images of a folder, with all content"),
            ("check germination-01.vhdx --impact", "which files a damage hits"),
        ],
    ),
    (
        "repair",
        &[
            ("repair germination-01.vhdx", "shows the plan, and asks"),
            ("repair germination-01.vhdx --plan --impact", "the plan, and which files it would cost"),
            ("repair germination-01.vhdx --undo", "back to what it was"),
        ],
    ),
    (
        "salvage",
        &[
            ("salvage germination-01.vhdx saved.vhdx", "all that can be read"),
            ("salvage germination-01.vhdx saved.vhdx --without fen-base.vhdx", "past a layer that is lost"),
        ],
    ),
    (
        "grove",
        &[
            ("grove new herbarium --machine herbarium", "a folder for a machine"),
            ("grove add herbarium herbarium/records.vhdx", "one of its disks"),
        ],
    ),
    (
        "grove new",
        &[
            ("grove new herbarium --machine herbarium", "a folder for a machine"),
            ("grove new /srv/herbarium --machine herbarium --plan", "what would be made"),
        ],
    ),
    (
        "grove add",
        &[
            ("grove add herbarium herbarium/records.vhdx", "a disk that every checkpoint holds"),
            ("grove add herbarium herbarium/swap.vhdx --role apart", "one that none holds"),
        ],
    ),
    (
        "grove release",
        &[
            ("grove release herbarium records", "no disk of the machine any more; its files stay"),
            ("grove release herbarium records --plan", "what that means for its checkpoints"),
        ],
    ),
    (
        "grove list",
        &[("grove list herbarium", "its disks and their roles"), ("grove list", "of the machine in this folder")],
    ),
    (
        "grove rebuild",
        &[
            ("grove rebuild herbarium --plan", "what the files alone tell"),
            ("grove rebuild herbarium --machine herbarium", "a new catalogue of that"),
        ],
    ),
    (
        "grove copy",
        &[
            ("grove copy herbarium /srv/backup/herbarium", "with its history"),
            ("grove copy herbarium trial --flat --checkpoint spring", "each disk as one image"),
        ],
    ),
    (
        "grove remove",
        &[
            ("grove remove herbarium --plan", "what would go, and what is in the way"),
            ("grove remove herbarium", "the machine with all its checkpoints"),
        ],
    ),
    (
        "checkpoint",
        &[
            ("checkpoint take herbarium before-upgrade", "all its disks at one moment"),
            ("checkpoint list herbarium", "what there is, and what it holds"),
            ("checkpoint revert herbarium before-upgrade --keep-as failed", "back, and keep the present"),
        ],
    ),
    (
        "checkpoint take",
        &[
            ("checkpoint take herbarium before-upgrade --note 'catalogue 1.0'", "before a risky change"),
            ("checkpoint take herbarium nightly --before 'ssh herbarium sync'", "while the machine runs"),
        ],
    ),
    (
        "checkpoint list",
        &[
            ("checkpoint list herbarium", "the tree, and what forgetting each would move and free"),
            ("checkpoint list herbarium --json", "the same for scripts"),
        ],
    ),
    (
        "checkpoint revert",
        &[
            ("checkpoint revert herbarium before-upgrade --keep-as failed", "back, and keep the present"),
            ("checkpoint revert herbarium before-upgrade --discard", "back; the present is lost"),
        ],
    ),
    (
        "checkpoint forget",
        &[
            ("checkpoint forget herbarium failed", "its layers are merged where they are needed"),
            ("checkpoint forget herbarium --keep 7", "all but the last seven"),
            ("checkpoint forget herbarium --older-than 14d --plan", "what would go, and what moves"),
        ],
    ),
    (
        "checkpoint rename",
        &[
            ("checkpoint rename herbarium failed failed-upgrade", "another name"),
            ("checkpoint rename herbarium failed failed-upgrade --plan", "what that would do"),
        ],
    ),
    (
        "checkpoint note",
        &[
            ("checkpoint note herbarium spring 'before the new scans'", "what it is for"),
            ("checkpoint note herbarium spring --protect", "never forgotten by age or number"),
        ],
    ),
    (
        "serve",
        &[
            ("serve germination-01.vhdx --writable", "prints the URI, and serves until it is ended"),
            ("serve herbarium --all-disks --writable --background", "all disks of a machine"),
            ("serve germination-01.vhdx --throwaway", "a guest may write, and all of it is forgotten"),
        ],
    ),
    (
        "expose",
        &[
            ("expose herbarium.vhdx fen --writable --background", "the disk and its partitions as files in fen/"),
            ("expose herbarium.vhdx fen", "for reading, until it is ended"),
        ],
    ),
    (
        "attachments",
        &[("attachments", "what is served or exposed here"), ("attachments --json", "the same for scripts")],
    ),
    (
        "detach",
        &[
            ("detach fen", "what is exposed there; refused while it is mounted"),
            ("detach germination-01.vhdx", "whatever serves or exposes it"),
        ],
    ),
    (
        "bytes",
        &[
            ("bytes read germination-01.vhdx --at 0 --len 512 -o sector", "the first sector"),
            ("bytes write germination-01.vhdx --at 1M -i records", "a file's bytes into the disk"),
        ],
    ),
    (
        "bytes read",
        &[
            ("bytes read germination-01.vhdx --at 0 --len 512 -o sector", "the first sector, into a new file"),
            ("bytes read germination-01.vhdx --at 1M --len 4K", "to standard output"),
        ],
    ),
    (
        "bytes write",
        &[
            ("bytes write germination-01.vhdx --at 1M -i records", "a file's bytes into the disk"),
            ("bytes write germination-01.vhdx --at 0", "what comes from standard input"),
        ],
    ),
    (
        "completions",
        &[
            ("completions bash > /etc/bash_completion.d/zsap", "for everybody on this host"),
            ("completions fish > ~/.config/fish/completions/zsap.fish", "for yourself"),
        ],
    ),
    (
        "manual",
        &[
            ("manual /usr/local/share/man/man1", "then `man zsap` and `man zsap-merge`"),
            ("manual pages --plan", "which files that would write"),
        ],
    ),
    ("words", &[("words", "what the words mean that this program uses"), ("help words", "the same")]),
    ("settings", &[("settings", "what is set, and in which file"), ("settings --json", "the same for scripts")]),
    (
        "demo",
        &[
            ("demo", "the whole story, in a new folder under the host's temporary folder"),
            ("demo /srv/trial", "in a new folder of your choice"),
        ],
    ),
];
