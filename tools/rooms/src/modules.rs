//! The modules of a crate, as its files declare them: what each defines, what it imports, and what it names.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::{fs, io};

use quote::ToTokens as _;
use syn::visit::Visit;
use syn::{Attribute, Item, ItemImpl, UseTree};

/// Where a module is: the names from the root of the crate on.
pub(crate) type ModulePath = Vec<String>;

/// One module.
#[derive(Debug, Default)]
pub(crate) struct Module {
    /// Its file, from the crate's source folder on.
    pub(crate) file: PathBuf,
    /// What it defines.
    pub(crate) items: BTreeSet<String>,
    /// What it names otherwise, by the name it has here.
    pub(crate) aliases: BTreeMap<String, Vec<String>>,
    /// Modules of which it takes everything.
    pub(crate) globs: Vec<Vec<String>>,
    /// The paths that it uses.
    pub(crate) used: BTreeSet<Vec<String>>,
    /// The types that it has inherent methods for.
    pub(crate) implemented: BTreeSet<Vec<String>>,
    pub(crate) children: BTreeSet<String>,
}

/// Every module of a crate.
#[derive(Debug, Default)]
pub(crate) struct Modules(pub(crate) BTreeMap<ModulePath, Module>);

impl Modules {
    /// Reads the crate whose source folder this is.
    pub(crate) fn read(source: &Path) -> io::Result<Self> {
        let mut modules = Self::default();
        for root in ["lib.rs", "main.rs"] {
            if source.join(root).exists() {
                modules.read_file(source, Path::new(root), &Vec::new(), &PathBuf::new())?;
            }
        }
        Ok(modules)
    }

    /// Reads a file, whose inner modules are in `folder`.
    fn read_file(&mut self, source: &Path, file: &Path, path: &ModulePath, folder: &Path) -> io::Result<()> {
        let text = fs::read_to_string(source.join(file))?;
        let parsed = syn::parse_file(&text)
            .map_err(|error| io::Error::new(io::ErrorKind::InvalidData, format!("{}: {error}", file.display())))?;
        self.add(source, file, path, folder, &parsed.items)
    }

    fn add(&mut self, source: &Path, file: &Path, path: &ModulePath, folder: &Path, items: &[Item]) -> io::Result<()> {
        let mut module = Module { file: file.to_owned(), ..Module::default() };
        let mut inner = Vec::new();
        for item in items.iter().filter(|item| !is_test(attributes(item))) {
            match item {
                Item::Mod(held) => {
                    let name = held.ident.to_string();
                    module.children.insert(name.clone());
                    inner.push((name, held.content.as_ref().map(|(_, items)| items)));
                }
                Item::Use(held) => module.import(&held.tree, &[], matches!(held.vis, syn::Visibility::Inherited)),
                other => module.define(other),
            }
        }
        // The command and the library of one crate share a root.
        self.0.entry(path.clone()).or_default().merge(module);
        for (name, content) in inner {
            let (mut below, folder) = (path.clone(), folder.join(&name));
            below.push(name.clone());
            match content {
                Some(items) => self.add(source, file, &below, &folder, items)?,
                None => {
                    let beside = folder.with_extension("rs");
                    let file = if source.join(&beside).exists() { beside } else { folder.join("mod.rs") };
                    self.read_file(source, &file, &below, &folder)?;
                }
            }
        }
        Ok(())
    }
}

impl Module {
    fn merge(&mut self, other: Self) {
        self.file = other.file;
        self.items.extend(other.items);
        self.aliases.extend(other.aliases);
        self.globs.extend(other.globs);
        self.used.extend(other.used);
        self.implemented.extend(other.implemented);
        self.children.extend(other.children);
    }

    /// Takes what an import names. One that only hands on, by `pub`, is no use of its own.
    fn import(&mut self, tree: &UseTree, before: &[String], is_own: bool) {
        let with = |name: String| [before, &[name]].concat();
        match tree {
            UseTree::Path(path) => self.import(&path.tree, &with(path.ident.to_string()), is_own),
            UseTree::Group(group) => group.items.iter().for_each(|tree| self.import(tree, before, is_own)),
            UseTree::Glob(_) => {
                self.globs.push(before.to_vec());
                if is_own {
                    self.used.insert(before.to_vec());
                }
            }
            UseTree::Name(name) => self.alias(name.ident.to_string(), &name.ident.to_string(), before, is_own),
            UseTree::Rename(name) => self.alias(name.rename.to_string(), &name.ident.to_string(), before, is_own),
        }
    }

    fn alias(&mut self, alias: String, name: &str, before: &[String], is_own: bool) {
        let is_module = name == "self";
        let path = if is_module { before.to_vec() } else { [before, &[name.to_owned()]].concat() };
        let alias = if is_module && alias == "self" { before.last().cloned().unwrap_or_default() } else { alias };
        if is_own {
            self.used.insert(path.clone());
        }
        self.aliases.insert(alias, path);
    }

    fn define(&mut self, item: &Item) {
        let name = match item {
            Item::Const(held) => Some(&held.ident),
            Item::Enum(held) => Some(&held.ident),
            Item::Fn(held) => Some(&held.sig.ident),
            Item::Static(held) => Some(&held.ident),
            Item::Struct(held) => Some(&held.ident),
            Item::Trait(held) => Some(&held.ident),
            Item::Type(held) => Some(&held.ident),
            Item::Union(held) => Some(&held.ident),
            Item::Macro(held) => held.ident.as_ref(),
            _ => None,
        };
        self.items.extend(name.map(ToString::to_string));
        Paths { module: self }.visit_item(item);
    }
}

/// Notes the paths in code.
struct Paths<'a> {
    module: &'a mut Module,
}

impl<'ast> Visit<'ast> for Paths<'_> {
    fn visit_visibility(&mut self, _: &'ast syn::Visibility) {
        // `pub(crate)` uses nothing.
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        self.module.used.insert(names(path));
        syn::visit::visit_path(self, path);
    }

    fn visit_item_impl(&mut self, held: &'ast ItemImpl) {
        if is_test(&held.attrs) {
            return;
        }
        if let (None, syn::Type::Path(of)) = (&held.trait_, &*held.self_ty) {
            self.module.implemented.insert(names(&of.path));
        }
        syn::visit::visit_item_impl(self, held);
    }

    fn visit_item_use(&mut self, held: &'ast syn::ItemUse) {
        // Inside a function: seen as one of the module.
        self.module.import(&held.tree, &[], true);
    }

    fn visit_macro(&mut self, held: &'ast syn::Macro) {
        // What a macro is given is no syntax yet: paths in it are found by their colons.
        let text = held.tokens.to_token_stream().to_string().replace(" :: ", "::");
        let is_part = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
        for path in text.split(|c| !is_part(c)).filter(|path| path.contains("::")) {
            let names = path.split("::").map(str::to_owned).filter(|name| !name.is_empty());
            self.module.used.insert(names.collect());
        }
        syn::visit::visit_macro(self, held);
    }
}

fn names(path: &syn::Path) -> Vec<String> {
    path.segments.iter().map(|segment| segment.ident.to_string()).collect()
}

/// Whether something is only there in tests.
fn is_test(attributes: &[Attribute]) -> bool {
    attributes.iter().any(|attribute| {
        attribute.path().is_ident("cfg") && attribute.meta.to_token_stream().to_string().contains("test")
            || attribute.path().is_ident("test")
    })
}

fn attributes(item: &Item) -> &[Attribute] {
    match item {
        Item::Const(held) => &held.attrs,
        Item::Enum(held) => &held.attrs,
        Item::Fn(held) => &held.attrs,
        Item::Impl(held) => &held.attrs,
        Item::Mod(held) => &held.attrs,
        Item::Static(held) => &held.attrs,
        Item::Struct(held) => &held.attrs,
        Item::Trait(held) => &held.attrs,
        Item::Type(held) => &held.attrs,
        Item::Use(held) => &held.attrs,
        _ => &[],
    }
}
