//! Places for a fault, found in the syntax of the sources.

use std::fmt;
use std::fs;
use std::ops::Range;
use std::path::Path;

use proc_macro2::Span;
use syn::spanned::Spanned;
use syn::visit::{self, Visit};
use syn::{BinOp, Expr, Lit, ReturnType, Stmt, Type, UnOp};

/// Files without places: tests, words, and what only checks the solver in debug builds, where a fault is a check less.
const PASSED_OVER: [&str; 4] = ["tests.rs", "told.rs", "error.rs", "invariants.rs"];

/// A place for a fault.
#[derive(Debug, Clone)]
pub(crate) struct Site {
    /// Its number; 0 is none.
    pub(crate) number: u32,
    /// The crate, without its first name.
    pub(crate) room: String,
    /// The file, from the root.
    pub(crate) file: String,
    /// The bytes of the file that are replaced.
    pub(crate) at: Range<usize>,
    /// By what; it holds what was there before.
    pub(crate) with: String,
    lines: (usize, usize),
    what: String,
}

impl Site {
    /// Tells whether a place in a file is in it.
    pub(crate) fn covers(&self, file: &str, line: usize) -> bool {
        self.file == file && (self.lines.0..=self.lines.1).contains(&line)
    }
}

impl fmt::Display for Site {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{}:{}: {}", self.file, self.lines.0, self.what)
    }
}

/// Finds all places in the sources of some crates.
pub(crate) fn sites_of(root: &Path, crates: &[&str]) -> Result<Vec<Site>, String> {
    let mut all = Vec::new();
    for room in crates {
        let mut open = vec![format!("crates/yostel-{room}/src")];
        let mut files = Vec::new();
        while let Some(folder) = open.pop() {
            let entries = fs::read_dir(root.join(&folder)).map_err(|error| format!("{folder}: {error}"))?;
            for entry in entries {
                let entry = entry.map_err(|error| error.to_string())?;
                let name = entry.file_name().to_string_lossy().into_owned();
                let path = format!("{folder}/{name}");
                if entry.path().is_dir() {
                    open.push(path);
                } else if name.ends_with(".rs") && !PASSED_OVER.contains(&name.as_str()) {
                    files.push(path);
                }
            }
        }
        files.sort();
        for file in files {
            let text = fs::read_to_string(root.join(&file)).map_err(|error| error.to_string())?;
            let syntax = syn::parse_file(&text).map_err(|error| format!("{file}: {error}"))?;
            let mut finder = Finder { room, file: &file, text: &text, found: Vec::new() };
            finder.visit_file(&syntax);
            all.append(&mut finder.found);
        }
    }
    for (at, site) in all.iter_mut().enumerate() {
        site.number = u32::try_from(at + 1).map_err(|_| "there are too many places")?;
        site.with = site.with.replace("FAULT", &format!("crate::fault_is_on({})", site.number));
    }
    Ok(all)
}

/// Draws some of the places, no two of which overlap.
pub(crate) fn choose(mut all: Vec<Site>, count: usize, seed: u64) -> Vec<Site> {
    let mut state = seed;
    // SplitMix64 (Steele, Lea and Flood 2014).
    let mut next = move || {
        state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = state;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    };
    let mut chosen: Vec<Site> = Vec::new();
    while chosen.len() < count && !all.is_empty() {
        let at = (next() % all.len() as u64) as usize;
        let site = all.swap_remove(at);
        let meets =
            |other: &Site| other.file == site.file && other.at.start < site.at.end && site.at.start < other.at.end;
        if !chosen.iter().any(meets) {
            chosen.push(site);
        }
    }
    chosen
}

struct Finder<'f> {
    room: &'f str,
    file: &'f str,
    text: &'f str,
    found: Vec<Site>,
}

impl Finder<'_> {
    fn text_of(&self, span: Span) -> &str {
        &self.text[span.byte_range()]
    }

    fn add(&mut self, span: Span, with: String, what: &str) {
        let first = self.text_of(span).lines().next().unwrap_or_default().trim().to_owned();
        self.found.push(Site {
            number: 0,
            room: self.room.to_owned(),
            file: self.file.to_owned(),
            at: span.byte_range(),
            with,
            lines: (span.start().line, span.end().line),
            what: format!("`{first}` {what}"),
        });
    }

    /// One expression in place of another.
    fn swap(&mut self, span: Span, with: &str, what: &str) {
        let before = self.text_of(span).to_owned();
        self.add(span, format!("(if FAULT {{ {with} }} else {{ {before} }})"), what);
    }

    fn condition(&mut self, condition: &Expr) {
        if !has_let(condition) {
            let before = self.text_of(condition.span()).to_owned();
            self.swap(condition.span(), &format!("!({before})"), "turned");
        }
    }
}

fn has_let(expression: &Expr) -> bool {
    match expression {
        Expr::Let(_) => true,
        Expr::Binary(binary) => has_let(&binary.left) || has_let(&binary.right),
        _ => false,
    }
}

fn is_for_tests(attributes: &[syn::Attribute]) -> bool {
    attributes.iter().any(|attribute| match &attribute.meta {
        syn::Meta::List(list) if list.path.is_ident("cfg") => list.tokens.to_string() == "test",
        meta => meta.path().is_ident("test"),
    })
}

/// What a function of this type returns when it does nothing.
fn nothing(output: &ReturnType) -> Option<&'static str> {
    let ReturnType::Type(_, of) = output else { return Some("") };
    let Type::Path(path) = &**of else { return None };
    let last = path.path.segments.last()?;
    let inner = match &last.arguments {
        syn::PathArguments::AngleBracketed(list) => list.args.first(),
        _ => None,
    };
    match last.ident.to_string().as_str() {
        "bool" => Some("false"),
        "Option" => Some("None"),
        "String" | "Vec" | "BTreeMap" | "BTreeSet" | "usize" | "u64" | "u32" => Some("Default::default()"),
        "Result" => match inner {
            Some(syn::GenericArgument::Type(Type::Tuple(tuple))) if tuple.elems.is_empty() => Some("Ok(())"),
            _ => None,
        },
        _ => None,
    }
}

impl<'ast> Visit<'ast> for Finder<'_> {
    fn visit_item_mod(&mut self, item: &'ast syn::ItemMod) {
        if !is_for_tests(&item.attrs) {
            visit::visit_item_mod(self, item);
        }
    }

    fn visit_item_fn(&mut self, item: &'ast syn::ItemFn) {
        if item.sig.constness.is_none() && !is_for_tests(&item.attrs) {
            self.body(&item.sig, &item.block);
            visit::visit_item_fn(self, item);
        }
    }

    fn visit_item_impl(&mut self, item: &'ast syn::ItemImpl) {
        let shows = item.trait_.as_ref().and_then(|(_, path, _)| path.segments.last());
        // How a value looks to whoever looks for a fault is not what tests are for.
        if shows.is_none_or(|last| last.ident != "Debug") {
            visit::visit_item_impl(self, item);
        }
    }

    fn visit_impl_item_fn(&mut self, item: &'ast syn::ImplItemFn) {
        if item.sig.constness.is_none() && !is_for_tests(&item.attrs) {
            self.body(&item.sig, &item.block);
            visit::visit_impl_item_fn(self, item);
        }
    }

    fn visit_item_const(&mut self, _: &'ast syn::ItemConst) {}
    fn visit_impl_item_const(&mut self, _: &'ast syn::ImplItemConst) {}
    fn visit_item_static(&mut self, _: &'ast syn::ItemStatic) {}
    fn visit_item_enum(&mut self, _: &'ast syn::ItemEnum) {}
    fn visit_pat(&mut self, _: &'ast syn::Pat) {}
    fn visit_type(&mut self, _: &'ast Type) {}
    fn visit_attribute(&mut self, _: &'ast syn::Attribute) {}
    fn visit_generic_argument(&mut self, _: &'ast syn::GenericArgument) {}

    fn visit_expr_repeat(&mut self, expression: &'ast syn::ExprRepeat) {
        self.visit_expr(&expression.expr);
    }

    fn visit_expr_binary(&mut self, binary: &'ast syn::ExprBinary) {
        let others: &[(&str, &str)] = match binary.op {
            BinOp::Eq(_) => &[("!=", "turned")],
            BinOp::Ne(_) => &[("==", "turned")],
            BinOp::Lt(_) => &[("<=", "as <="), (">=", "turned")],
            BinOp::Le(_) => &[("<", "as <"), (">", "turned")],
            BinOp::Gt(_) => &[(">=", "as >="), ("<=", "turned")],
            BinOp::Ge(_) => &[(">", "as >"), ("<", "turned")],
            BinOp::And(_) => &[("||", "as or")],
            BinOp::Or(_) => &[("&&", "as and")],
            _ => &[],
        };
        if !has_let(&binary.left) && !has_let(&binary.right) {
            let (left, right) =
                (self.text_of(binary.left.span()).to_owned(), self.text_of(binary.right.span()).to_owned());
            for (sign, what) in others {
                self.swap(binary.span(), &format!("({left}) {sign} ({right})"), what);
            }
        }
        visit::visit_expr_binary(self, binary);
    }

    fn visit_expr_unary(&mut self, unary: &'ast syn::ExprUnary) {
        if matches!(unary.op, UnOp::Not(_)) {
            let inner = self.text_of(unary.expr.span()).to_owned();
            self.swap(unary.span(), &inner, "without the not");
        }
        visit::visit_expr_unary(self, unary);
    }

    fn visit_expr_lit(&mut self, literal: &'ast syn::ExprLit) {
        match &literal.lit {
            Lit::Bool(truth) => {
                let other = if truth.value { "false" } else { "true" };
                self.swap(literal.span(), other, &format!("as {other}"));
            }
            Lit::Int(number) => {
                if let Ok(value) = number.base10_parse::<u64>() {
                    let more = format!("{}{}", value.saturating_add(1), number.suffix());
                    self.swap(literal.span(), &more, &format!("as {more}"));
                }
            }
            _ => {}
        }
    }

    fn visit_expr_if(&mut self, expression: &'ast syn::ExprIf) {
        self.condition(&expression.cond);
        visit::visit_expr_if(self, expression);
    }

    fn visit_expr_while(&mut self, expression: &'ast syn::ExprWhile) {
        self.condition(&expression.cond);
        visit::visit_expr_while(self, expression);
    }

    fn visit_arm(&mut self, arm: &'ast syn::Arm) {
        if let Some((_, guard)) = &arm.guard {
            self.condition(guard);
        }
        visit::visit_arm(self, arm);
    }

    fn visit_stmt(&mut self, statement: &'ast Stmt) {
        if let Stmt::Expr(expression, Some(_)) = statement {
            let acts = match expression {
                Expr::MethodCall(_) | Expr::Call(_) | Expr::Try(_) => true,
                Expr::Binary(binary) => {
                    matches!(binary.op, BinOp::AddAssign(_) | BinOp::SubAssign(_) | BinOp::BitOrAssign(_))
                }
                Expr::Assign(_) => true,
                _ => false,
            };
            let before = self.text_of(statement.span()).to_owned();
            // What is told while one works is looked at, not tested.
            if acts && !before.contains("observer.notice(") {
                self.add(statement.span(), format!("if !FAULT {{ {before} }}"), "left out");
            }
        }
        visit::visit_stmt(self, statement);
    }
}

impl Finder<'_> {
    /// The function returns at once.
    fn body(&mut self, signature: &syn::Signature, block: &syn::Block) {
        let (Some(value), Some(first)) = (nothing(&signature.output), block.stmts.first()) else { return };
        let before = self.text_of(first.span()).to_owned();
        let what = format!("not reached, {} returns at once", signature.ident);
        self.add(first.span(), format!("if FAULT {{ return {value}; }} {before}"), &what);
    }
}
