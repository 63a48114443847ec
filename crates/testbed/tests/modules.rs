//! No module of a crate is part of an import cycle: whoever reads one needs those below it and no others.
//!
//! A module is a file. It imports another if it names anything in it, in a `use` or anywhere else outside of tests. A
//! re-export alone counts for whoever uses it; the file that it stands in imports what it also uses itself.

#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use syn::visit::Visit;
use syn::{Attribute, Ident, ItemMod, ItemUse, UseTree, Visibility};

type Module = Vec<String>;

/// What one file names.
#[derive(Default)]
struct File {
    /// Paths from the crate's root.
    named: BTreeSet<Vec<String>>,
    /// Names that it passes on, and whose they are.
    exports: BTreeMap<String, Vec<String>>,
}

/// The imports of a crate's modules.
type Imports = BTreeMap<Module, BTreeSet<Module>>;

struct Reader<'a> {
    modules: &'a BTreeSet<Module>,
    module: Module,
    /// Modules within the file around what is being read.
    inline: usize,
    /// What names stand for that are imported.
    imported: BTreeMap<String, Vec<String>>,
    /// Names that stand alone, which may be re-exported ones.
    alone: BTreeSet<String>,
    file: File,
}

impl Reader<'_> {
    /// A path as it stands, from the crate's root; `None` if it leads elsewhere.
    fn rooted(&self, path: &[String]) -> Option<Vec<String>> {
        let first = path.first()?;
        let mut rest = path;
        let mut base = self.module.clone();
        match first.as_str() {
            "crate" => {
                base.clear();
                rest = &rest[1..];
            }
            "self" => rest = &rest[1..],
            "super" => {
                let up = rest.iter().take_while(|s| *s == "super").count();
                rest = &rest[up..];
                base.truncate(base.len().saturating_sub(up.saturating_sub(self.inline)));
            }
            child => {
                base.push(child.to_string());
                return self.modules.contains(&base).then(|| [&base[..], &rest[1..]].concat());
            }
        }
        Some([base, rest.to_vec()].concat())
    }

    fn leaves(tree: &UseTree, before: &[String], found: &mut Vec<(Vec<String>, Ident)>) {
        let with = |name: &Ident| [before, &[name.to_string()]].concat();
        match tree {
            UseTree::Path(p) => Self::leaves(&p.tree, &with(&p.ident), found),
            UseTree::Name(n) if n.ident == "self" => {
                found.extend(before.last().map(|l| (before.to_vec(), Ident::new(l, n.ident.span()))));
            }
            UseTree::Name(n) => found.push((with(&n.ident), n.ident.clone())),
            UseTree::Rename(r) => found.push((with(&r.ident), r.rename.clone())),
            UseTree::Group(g) => g.items.iter().for_each(|t| Self::leaves(t, before, found)),
            UseTree::Glob(g) => {
                found.push((before.to_vec(), Ident::new("glob", syn::spanned::Spanned::span(&g.star_token))))
            }
        }
    }
}

fn is_test(attributes: &[Attribute]) -> bool {
    attributes.iter().any(|a| a.path().is_ident("cfg") && a.parse_args::<Ident>().is_ok_and(|i| i == "test"))
}

impl<'ast> Visit<'ast> for Reader<'_> {
    fn visit_item_mod(&mut self, item: &'ast ItemMod) {
        if !is_test(&item.attrs) && item.content.is_some() {
            self.inline += 1;
            syn::visit::visit_item_mod(self, item);
            self.inline -= 1;
        }
    }

    fn visit_item_use(&mut self, item: &'ast ItemUse) {
        if is_test(&item.attrs) {
            return;
        }
        let mut leaves = Vec::new();
        Self::leaves(&item.tree, &[], &mut leaves);
        let exported = !matches!(item.vis, Visibility::Inherited);
        for (path, name) in leaves {
            match self.rooted(&path) {
                Some(path) if exported => drop(self.file.exports.insert(name.to_string(), path)),
                Some(path) => {
                    self.imported.insert(name.to_string(), path.clone());
                    self.file.named.insert(path);
                }
                None => {}
            }
        }
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        self.alone.extend(path.segments.first().map(|s| s.ident.to_string()));
        if path.segments.len() > 1 {
            let path: Vec<String> = path.segments.iter().map(|s| s.ident.to_string()).collect();
            // By an imported name, as `b::f` is after `use crate::b`.
            let imported = self.imported.get(&path[0]).map(|to| [&to[..], &path[1..]].concat());
            self.file.named.extend(imported.or_else(|| self.rooted(&path)));
        }
        syn::visit::visit_path(self, path);
    }
}

fn files(dir: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(dir).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") {
            found.push(path);
        }
    }
}

fn module_of(src: &Path, file: &Path) -> Module {
    let path = file.strip_prefix(src).unwrap().with_extension("");
    let mut module: Module = path.iter().map(|part| part.to_string_lossy().into_owned()).collect();
    if module.last().is_some_and(|last| matches!(last.as_str(), "mod" | "lib" | "main")) {
        module.pop();
    }
    module
}

/// The file in which what `path` names is written.
fn home(path: &[String], files: &BTreeMap<Module, File>, hops: usize) -> Option<Module> {
    let (module, rest) = (0..=path.len()).rev().find_map(|n| {
        let (module, rest) = path.split_at(n);
        files.contains_key(module).then_some((module, rest))
    })?;
    let export = rest.first().and_then(|name| files[module].exports.get(name));
    match export {
        Some(to) if hops > 0 => home(&[&to[..], &rest[1..]].concat(), files, hops - 1),
        _ => Some(module.to_vec()),
    }
}

/// The imports of the crate with these files.
fn imports(src: &Path, texts: &[(PathBuf, String)]) -> Imports {
    let modules: BTreeSet<Module> = texts.iter().map(|(path, _)| module_of(src, path)).collect();
    let mut files = BTreeMap::new();
    for (path, text) in texts {
        let module = module_of(src, path);
        let mut reader = Reader {
            modules: &modules,
            module: module.clone(),
            inline: 0,
            imported: BTreeMap::new(),
            alone: BTreeSet::new(),
            file: File::default(),
        };
        reader.visit_file(&syn::parse_file(text).unwrap_or_else(|e| panic!("{}: {e}", path.display())));
        let Reader { alone, mut file, .. } = reader;
        let used = file.exports.iter().filter(|(name, _)| alone.contains(*name));
        file.named.extend(used.map(|(_, path)| path.clone()));
        files.insert(module, file);
    }
    let of = |(module, file): (&Module, &File)| {
        let homes = file.named.iter().filter_map(|path| home(path, &files, 8)).filter(|home| home != module);
        (module.clone(), homes.collect())
    };
    files.iter().map(of).collect()
}

/// Takes away modules that import none that is left, as long as there are any: what remains imports in cycles, or from
/// one; and likewise from the other end.
fn cycles(mut imports: Imports) -> Imports {
    loop {
        let before = imports.len();
        let left: BTreeSet<Module> = imports.keys().cloned().collect();
        imports.values_mut().for_each(|to| to.retain(|m| left.contains(m)));
        imports.retain(|_, to| !to.is_empty());
        let imported: BTreeSet<Module> = imports.values().flatten().cloned().collect();
        imports.retain(|module, _| imported.contains(module));
        if imports.len() == before {
            return imports;
        }
    }
}

fn shown(imports: &Imports) -> String {
    let name = |m: &Module| if m.is_empty() { "the root".to_string() } else { m.join("::") };
    let line = |(module, to): (&Module, &BTreeSet<Module>)| {
        format!("  {} imports {}\n", name(module), to.iter().map(name).collect::<Vec<_>>().join(", "))
    };
    imports.iter().map(line).collect()
}

#[test]
fn no_module_imports_in_a_circle() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut found = String::new();
    for entry in std::fs::read_dir(crates).unwrap() {
        let entry = entry.unwrap();
        let src = entry.path().join("src");
        let mut paths = Vec::new();
        files(&src, &mut paths);
        let texts: Vec<_> = paths.into_iter().map(|p| (p.clone(), std::fs::read_to_string(&p).unwrap())).collect();
        let circles = cycles(imports(&src, &texts));
        if !circles.is_empty() {
            found += &format!("{}:\n{}", src.display(), shown(&circles));
        }
    }
    assert!(found.is_empty(), "modules import each other:\n{found}");
}

#[test]
fn a_planted_circle_is_found() {
    let src = Path::new("src");
    let found = |files: &[(&str, &str)]| {
        let texts: Vec<_> = files.iter().map(|(name, text)| (src.join(name), text.to_string())).collect();
        shown(&cycles(imports(src, &texts)))
    };
    let root = ("lib.rs", "mod a; mod b; pub use b::B;");
    assert_eq!(found(&[root, ("a.rs", "use crate::B;"), ("b.rs", "pub struct B;")]), "");
    let circle = "  a imports b\n  b imports a\n";
    assert_eq!(found(&[root, ("a.rs", "use crate::B; pub struct A;"), ("b.rs", "fn b(a: super::a::A) {}")]), circle);
    assert_eq!(found(&[root, ("a.rs", "use super::b;"), ("b.rs", "mod inner { use super::super::a::A; }")]), circle);
    assert_eq!(
        found(&[
            ("lib.rs", "mod a; mod b;"),
            ("a.rs", "use crate::b; pub fn f() { b::c::g() }"),
            ("b/mod.rs", "pub mod c;"),
            ("b/c.rs", "pub fn g() { crate::a::f() }"),
        ]),
        "  a imports b::c\n  b::c imports a\n"
    );
    // Passing a name on is no import; using it as well is one.
    let b = ("b.rs", "use crate::a::A; pub struct B;");
    assert_eq!(found(&[root, ("a.rs", "pub use crate::b::B; pub struct A;"), b]), "");
    assert_eq!(found(&[root, ("a.rs", "pub use crate::b::B; pub struct A(B);"), b]), circle);
    let tests = "#[cfg(test)] mod tests { use crate::a::A; }";
    assert_eq!(found(&[root, ("a.rs", "use crate::b::B;"), ("b.rs", tests)]), "");
    assert_eq!(
        found(&[("lib.rs", "mod a; fn f() { a::g() }"), ("a.rs", "use crate::f;")]),
        "  the root imports a\n  a imports the root\n"
    );
}
