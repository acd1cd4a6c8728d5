//! `alike`: which things are interchangeable, and the proof that the rules treat them so.

use super::*;

impl Checker<'_> {
    /// Rules that tell things apart which are declared to be alike.
    pub(super) fn prove_alike(&mut self, model: &Model) {
        let file = self.file;
        for def in &model.alike {
            let found = crate::check::alike::findings(model, def);
            if found.is_empty() {
                continue;
            }
            let error = self.error("M061", def.span, "these are not alike: the rules tell them apart");
            for f in found.iter().take(4) {
                error.labels.push(crate::source::Label { file, span: f.span, text: f.how.clone() });
            }
            if found.len() > 4 {
                error.notes.push(format!("and {} more places", found.len() - 4));
            }
            error.notes.push(
                "what is alike is only copied, compared for being equal, counted, and used as a key; attributes stand in an \
                 array of the level keyed by it, and rules under a level switch are left out by `if not SWITCH`"
                    .into(),
            );
        }
    }

    #[expect(clippy::too_many_lines, reason = "one arm for each way to say what is alike")]
    pub(super) fn likeness(&mut self, what: &tree::Likeness, span: Span) -> Option<Kind> {
        match what {
            tree::Likeness::Names(names) => {
                if let [name] = names.as_slice()
                    && let Some(&(Global::Enum(e), _)) = self.globals.get(&name.text)
                {
                    return Some(Kind::Values(e, (0..self.enums[e].values.len() as i64).collect()));
                }
                let mut out: Option<(usize, Vec<i64>)> = None;
                for name in names {
                    let Some(&(Global::EnumValue(e, v), _)) = self.globals.get(&name.text) else {
                        self.unknown(name, "value of an enum");
                        return None;
                    };
                    let (of, values) = out.get_or_insert((e, vec![]));
                    if *of != e || values.contains(&(v as i64)) {
                        self.error("M062", name.span, "values of one enum, each once, can be alike");
                        return None;
                    }
                    values.push(v as i64);
                }
                let (e, mut values) = out?;
                if values.len() < 2 {
                    self.error("M062", span, "one thing alone is like nothing");
                    return None;
                }
                values.sort_unstable();
                Some(Kind::Values(e, values))
            }
            tree::Likeness::Numbers(lo, hi, vars) => {
                let (lo, hi) = (self.lone(lo, Place::Level), self.lone(hi, Place::Level));
                let (lo, hi) = (self.coerce(lo, Ty::Int), self.coerce(hi, Ty::Int));
                let mut carriers = vec![];
                for name in vars {
                    match self.globals.get(&name.text) {
                        Some(&(Global::Var(v), _)) => carriers.push(v),
                        _ => {
                            self.unknown(name, "variable");
                            return None;
                        }
                    }
                }
                Some(Kind::Numbers { lo, hi, carriers, except: vec![] })
            }
            tree::Likeness::Piles(all, except) => {
                let of = &all[0];
                for other in &all[1..] {
                    let key = |c: &Self, name: &Name| match c.globals.get(&name.text) {
                        Some(&(Global::Var(v), _)) => match c.vars[v].shape {
                            Extent::Array(k) | Extent::Lists(k, _) => Some(k),
                            _ => None,
                        },
                        _ => None,
                    };
                    let (a, b) = (key(self, of), key(self, other));
                    let alike = match (a, b) {
                        (Some(Keyed::Range(a)), Some(Keyed::Range(b))) => {
                            let ((al, ah), (bl, bh)) = (&self.ranges[a], &self.ranges[b]);
                            al.says_same(bl) && ah.says_same(bh)
                        }
                        (a, b) => a.is_some() && a == b,
                    };
                    if !alike {
                        let message = format!("`{}` is not keyed like `{}`", other.text, of.text);
                        self.error("M062", other.span, message)
                            .notes
                            .push("arrays with the same keys go along by themselves; name only these".into());
                        return None;
                    }
                }
                let key = match self.globals.get(&of.text) {
                    Some(&(Global::Var(v), _)) => match self.vars[v].shape {
                        Extent::Array(k) | Extent::Lists(k, _) => Some(k),
                        _ => None,
                    },
                    _ => {
                        self.unknown(of, "array");
                        return None;
                    }
                };
                match key {
                    Some(Keyed::Range(r)) => {
                        let (lo, hi) = self.ranges[r].clone();
                        let mut out = vec![];
                        for e in except {
                            let e = self.lone(e, Place::Level);
                            out.push(self.coerce(e, Ty::Int));
                        }
                        Some(Kind::Numbers { lo, hi, carriers: vec![], except: out })
                    }
                    Some(Keyed::Enum(k)) => {
                        let mut class: Vec<i64> = (0..self.enums[k].values.len() as i64).collect();
                        for e in except {
                            let e = self.lone(e, Place::Level);
                            match self.coerce(e, Ty::Enum(k)).kind {
                                Ek::Const(v) => class.retain(|c| *c != v),
                                _ => {
                                    self.error("M062", span, "the exceptions are values of the enum");
                                    return None;
                                }
                            }
                        }
                        Some(Kind::Values(k, class))
                    }
                    _ => {
                        self.error(
                            "M062",
                            of.span,
                            "piles are the parts of an array keyed by an enum or a range",
                        )
                        .notes
                        .push("declare it: `state post: array 1..3 of list of 1..9 max 9`".into());
                        None
                    }
                }
            }
        }
    }
}
