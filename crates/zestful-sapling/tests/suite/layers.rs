//! The folder listing shows the architecture: a module uses only layers below its own, and no files use each other in
//! a circle.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use syn::visit::Visit;

/// Lowest first; modules of one layer do not know each other.
const LAYERS: &[&[&str]] = &[
    &["bounded", "path_data", "size", "bytes", "ranges"],
    &["finding"],
    &["refusal", "inside"],
    &["error"],
    &["progress"],
    &["program"],
    &["storage"],
    &["image"],
    &["sidecar"],
    &["chain"],
    &["guest"],
    &["family"],
    &["transfer"],
    &["operation"],
    &["check", "ops"],
    &["grove"],
    &["repair"],
];

/// A source file as a module: what it defines, what it passes on under its own name, and what it uses.
#[derive(Default)]
struct Module {
    file: PathBuf,
    defines: BTreeSet<String>,
    /// Name, or `*`, and the path behind it.
    passes_on: Vec<(String, Vec<String>)>,
    imports: BTreeMap<String, Vec<String>>,
    uses: BTreeSet<Vec<String>>,
}

#[derive(Default)]
struct Tree(BTreeMap<Vec<String>, Module>);

impl Tree {
    fn read(root: &Path) -> Self {
        let mut tree = Self::default();
        let mut folders = vec![root.to_owned()];
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(folder).unwrap() {
                let path = entry.unwrap().path();
                match path.is_dir() {
                    true => folders.push(path),
                    false => tree.add(root, &path),
                }
            }
        }
        tree
    }

    fn add(&mut self, root: &Path, path: &Path) {
        let place = path.strip_prefix(root).unwrap();
        let mut name: Vec<String> = place.with_extension("").iter().map(|part| part.to_str().unwrap().into()).collect();
        name.pop_if(|last| ["mod", "lib"].contains(&last.as_str()));
        let parsed = syn::parse_file(&std::fs::read_to_string(path).unwrap()).unwrap();
        let mut module = Module { file: place.to_owned(), ..Module::default() };
        for item in parsed.items.iter().filter(|item| !is_test(attributes(item))) {
            match item {
                syn::Item::Use(import) => module.note_import(&name, import),
                other => {
                    module.defines.extend(name_of(other));
                    Paths { here: &name, module: &mut module }.visit_item(other);
                }
            }
        }
        self.0.insert(name, module);
    }

    /// The module in whose file that stands which a path leads to; `None` outside of the crate.
    fn leads_to(&self, path: &[String]) -> Option<&Vec<String>> {
        let mut here: Vec<String> = Vec::new();
        for (number, step) in path.iter().enumerate() {
            let deeper = [here.as_slice(), std::slice::from_ref(step)].concat();
            if self.0.contains_key(&deeper) {
                here = deeper;
                continue;
            }
            let module = &self.0[&here];
            if module.defines.contains(step) {
                break;
            }
            let rest = &path[number + 1..];
            let named = module.passes_on.iter().find(|(name, _)| name == step);
            if let Some((_, behind)) = named {
                return self.leads_to(&[behind, rest].concat());
            }
            let globs = module.passes_on.iter().filter(|(name, _)| name == "*");
            let all = [std::slice::from_ref(step), rest].concat();
            for (_, behind) in globs {
                let wanted = [behind.as_slice(), &all].concat();
                if self.0.get(behind).is_some_and(|other| other.defines.contains(step)) {
                    return self.leads_to(&wanted);
                }
            }
            break;
        }
        self.0.get_key_value(&here).map(|(name, _)| name)
    }

    /// The files that each file uses.
    fn arrows(&self) -> BTreeMap<&Vec<String>, BTreeSet<&Vec<String>>> {
        let used = |name: &Vec<String>, module: &Module| {
            let all = module.uses.iter().chain(module.imports.values());
            all.filter_map(|path| self.leads_to(path)).filter(|other| *other != name).collect()
        };
        self.0.iter().map(|(name, module)| (name, used(name, module))).collect()
    }
}

impl Module {
    fn note_import(&mut self, here: &[String], import: &syn::ItemUse) {
        let mut found = Vec::new();
        flatten(&import.tree, &mut Vec::new(), &mut found);
        for (name, path) in found {
            let Some(path) = absolute(here, &path, |first| self.defines.contains(first) || is_child(here, first))
            else {
                continue;
            };
            match import.vis {
                syn::Visibility::Inherited => _ = self.imports.insert(name, path),
                _ => self.passes_on.push((name, path)),
            }
        }
    }
}

fn is_child(here: &[String], first: &str) -> bool {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let place = here.iter().fold(root, |path, part| path.join(part)).join(first);
    place.is_dir() || place.with_extension("rs").is_file()
}

/// A path from the crate's root; `None` when it leads out of the crate.
fn absolute(here: &[String], path: &[String], is_local: impl Fn(&str) -> bool) -> Option<Vec<String>> {
    let mut from = here.to_vec();
    let mut steps = path.iter().peekable();
    match steps.peek()?.as_str() {
        "crate" => {
            from.clear();
            steps.next();
        }
        "self" => _ = steps.next(),
        "super" => {
            while steps.next_if(|step| *step == "super").is_some() {
                from.pop();
            }
        }
        first if is_local(first) => {}
        _ => return None,
    }
    from.extend(steps.cloned());
    Some(from)
}

fn flatten(tree: &syn::UseTree, before: &mut Vec<String>, found: &mut Vec<(String, Vec<String>)>) {
    match tree {
        syn::UseTree::Path(path) => {
            before.push(path.ident.to_string());
            flatten(&path.tree, before, found);
            before.pop();
        }
        syn::UseTree::Name(name) if name.ident == "self" => {
            found.push((before.last().cloned().unwrap_or_default(), before.clone()));
        }
        syn::UseTree::Name(name) => {
            found.push((name.ident.to_string(), [before.as_slice(), &[name.ident.to_string()]].concat()));
        }
        syn::UseTree::Rename(name) => {
            found.push((name.rename.to_string(), [before.as_slice(), &[name.ident.to_string()]].concat()));
        }
        syn::UseTree::Glob(_) => found.push(("*".to_owned(), before.clone())),
        syn::UseTree::Group(group) => group.items.iter().for_each(|item| flatten(item, before, found)),
    }
}

/// All paths in the code of a module.
struct Paths<'a> {
    here: &'a [String],
    module: &'a mut Module,
}

impl<'ast> Visit<'ast> for Paths<'_> {
    fn visit_path(&mut self, path: &'ast syn::Path) {
        let steps: Vec<String> = path.segments.iter().map(|segment| segment.ident.to_string()).collect();
        let first = steps[0].as_str();
        if steps.len() > 1
            && !self.module.imports.contains_key(first)
            && let Some(found) = absolute(self.here, &steps, |first| is_child(self.here, first))
        {
            self.module.uses.insert(found);
        } else if let Some(import) = self.module.imports.get(first) {
            self.module.uses.insert([import.as_slice(), &steps[1..]].concat());
        }
        syn::visit::visit_path(self, path);
    }

    fn visit_item_use(&mut self, import: &'ast syn::ItemUse) {
        self.module.note_import(self.here, import);
    }

    fn visit_item_mod(&mut self, module: &'ast syn::ItemMod) {
        if !is_test(&module.attrs) {
            syn::visit::visit_item_mod(self, module);
        }
    }

    /// `#[serde(with = "crate::lossy")]`
    fn visit_lit_str(&mut self, text: &'ast syn::LitStr) {
        if text.value().starts_with("crate::")
            && let Ok(path) = text.parse::<syn::Path>()
        {
            self.visit_path(&path);
        }
    }

    /// Attributes are lists of tokens to the parser; the paths of the crate in them are in their strings.
    fn visit_attribute(&mut self, attribute: &'ast syn::Attribute) {
        let syn::Meta::List(list) = &attribute.meta else { return };
        for token in list.tokens.clone() {
            if let Ok(text) = syn::parse_str::<syn::LitStr>(&token.to_string()) {
                self.visit_lit_str(&text);
            }
        }
    }
}

fn attributes(item: &syn::Item) -> &[syn::Attribute] {
    match item {
        syn::Item::Mod(item) => &item.attrs,
        syn::Item::Fn(item) => &item.attrs,
        syn::Item::Impl(item) => &item.attrs,
        syn::Item::Use(item) => &item.attrs,
        _ => &[],
    }
}

fn is_test(attributes: &[syn::Attribute]) -> bool {
    attributes.iter().any(|attribute| match &attribute.meta {
        syn::Meta::List(list) => list.path.is_ident("cfg") && list.tokens.to_string() == "test",
        _ => false,
    })
}

fn name_of(item: &syn::Item) -> Option<String> {
    match item {
        syn::Item::Const(item) => Some(item.ident.to_string()),
        syn::Item::Enum(item) => Some(item.ident.to_string()),
        syn::Item::Fn(item) => Some(item.sig.ident.to_string()),
        syn::Item::Static(item) => Some(item.ident.to_string()),
        syn::Item::Struct(item) => Some(item.ident.to_string()),
        syn::Item::Trait(item) => Some(item.ident.to_string()),
        syn::Item::Type(item) => Some(item.ident.to_string()),
        syn::Item::Macro(item) => item.ident.as_ref().map(ToString::to_string),
        _ => None,
    }
}

fn layer_of(module: &str) -> usize {
    let found = LAYERS.iter().position(|layer| layer.contains(&module));
    found.unwrap_or_else(|| panic!("the module `{module}` has no layer; redraw the picture first"))
}

fn tree() -> Tree {
    Tree::read(&Path::new(env!("CARGO_MANIFEST_DIR")).join("src"))
}

#[test]
fn modules_use_only_layers_below() {
    let tree = tree();
    let mut seen = 0;
    let mut wrong = Vec::new();
    for (from, to) in tree.arrows() {
        let Some(module) = from.first() else { continue };
        for used in to.iter().filter(|used| used.first().is_some_and(|other| other != module)) {
            seen += 1;
            if layer_of(&used[0]) >= layer_of(module) {
                wrong.push(format!("{} uses {}", tree.0[from].file.display(), tree.0[*used].file.display()));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    assert!(seen > 300, "only {seen} uses were seen");
}

#[test]
fn no_files_use_each_other_in_a_circle() {
    let tree = tree();
    let arrows = tree.arrows();
    let reached = |from: &Vec<String>| {
        let (mut reached, mut open) = (BTreeSet::new(), vec![from.clone()]);
        while let Some(next) = open.pop() {
            for used in &arrows[&next] {
                if reached.insert((*used).clone()) {
                    open.push((*used).clone());
                }
            }
        }
        reached
    };
    let all: BTreeMap<_, _> = arrows.keys().map(|name| ((*name).clone(), reached(name))).collect();
    let mut circles = BTreeSet::new();
    for (name, reached) in all.iter().filter(|(name, reached)| reached.contains(*name)) {
        let members = reached.iter().filter(|other| all[*other].contains(name));
        let files: Vec<String> = members.map(|member| tree.0[member].file.display().to_string()).collect();
        circles.insert(files);
    }
    assert!(circles.is_empty(), "{circles:#?}");
}

/// All texts in the code of a module; comments and documentation are none.
#[derive(Default)]
struct Texts(Vec<String>);

impl<'ast> Visit<'ast> for Texts {
    fn visit_lit_str(&mut self, text: &'ast syn::LitStr) {
        self.0.push(text.value());
    }

    fn visit_item_mod(&mut self, module: &'ast syn::ItemMod) {
        if !is_test(&module.attrs) {
            syn::visit::visit_item_mod(self, module);
        }
    }

    fn visit_attribute(&mut self, attribute: &'ast syn::Attribute) {
        // `#[error("...")]`
        if let syn::Meta::List(list) = &attribute.meta {
            self.visit_token_stream(&list.tokens);
        }
    }

    fn visit_macro(&mut self, called: &'ast syn::Macro) {
        self.visit_token_stream(&called.tokens);
    }

    fn visit_token_stream(&mut self, tokens: &'ast proc_macro2::TokenStream) {
        for token in tokens.clone() {
            match token {
                proc_macro2::TokenTree::Group(group) => self.visit_token_stream(&group.stream()),
                other => self.0.extend(syn::parse_str::<syn::LitStr>(&other.to_string()).ok().map(|text| text.value())),
            }
        }
    }
}

/// What may be typed is the command's to say: the library tells what is, and what may be done.
#[test]
fn the_library_speaks_of_no_options_and_no_commands() {
    let commands = [
        "abandon",
        "bytes",
        "check",
        "copy",
        "derive",
        "diff",
        "make",
        "merge",
        "move",
        "pin",
        "relink",
        "remove",
        "resume",
        "show",
        "status",
        "transplant",
        "tree",
        "unfreeze",
        "unpin",
    ];
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let (mut seen, mut found) = (0, Vec::new());
    for module in tree().0.values() {
        let mut texts = Texts::default();
        let parsed = syn::parse_file(&std::fs::read_to_string(root.join(&module.file)).unwrap()).unwrap();
        parsed.items.iter().for_each(|item| texts.visit_item(item));
        seen += texts.0.len();
        let is_option = |text: &str| {
            let mut parts = text.split("--").skip(1);
            parts.any(|rest| rest.starts_with(|c: char| c.is_ascii_lowercase()))
        };
        let is_command = |text: &str| {
            text.split('`').skip(1).step_by(2).any(|quoted| commands.contains(&quoted.split(' ').next().unwrap_or("")))
        };
        let told = texts.0.into_iter().filter(|text| is_option(text) || is_command(text));
        found.extend(told.map(|text| format!("{}: {text}", module.file.display())));
    }
    assert!(found.is_empty(), "{found:#?}");
    assert!(seen > 1000, "only {seen} texts were seen");
}

/// Whether a text holds this path, and not only as a part of a longer one.
fn is_named(text: &str, path: &str) -> bool {
    let is_word = |c: Option<char>| c.is_some_and(|c| c.is_alphanumeric() || c == '_');
    text.match_indices(path)
        .any(|(at, _)| !is_word(text[..at].chars().next_back()) && !is_word(text[at + path.len()..].chars().next()))
}

/// Whoever matches on what went wrong relies on each kind being told where it should be.
#[test]
fn every_kind_of_error_and_problem_is_met_by_a_test() {
    let sources = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut tests = String::new();
    for folder in ["tests/suite", "src/transfer", "../zsap/tests/suite"] {
        for entry in std::fs::read_dir(sources.join(folder)).unwrap() {
            let path = entry.unwrap().path();
            if path.extension().is_some_and(|ending| ending == "rs") {
                tests.push_str(&std::fs::read_to_string(path).unwrap());
            }
        }
    }
    let mut missing = Vec::new();
    for module in tree().0.values() {
        let parsed =
            syn::parse_file(&std::fs::read_to_string(sources.join("src").join(&module.file)).unwrap()).unwrap();
        for item in parsed.items {
            let syn::Item::Enum(kinds) = item else { continue };
            let name = kinds.ident.to_string();
            if ["Error", "Refusal", "ParentProblemKind", "ProblemKind", "UnderWayState", "Hold"].contains(&&*name) {
                let kinds = kinds.variants.iter().map(|kind| format!("{name}::{}", kind.ident));
                missing.extend(kinds.filter(|kind| !is_named(&tests, kind)));
            }
        }
    }
    // Those of the formats are all produced, and looked for, by one test.
    let rules = zestful_sapling::finding::rules().map(|rule| rule.code);
    let others = rules.filter(|code| !code.starts_with("vhd"));
    missing.extend(others.filter(|code| !tests.contains(&format!("\"{code}\""))).map(str::to_owned));
    assert!(missing.is_empty(), "{missing:?}");
}
