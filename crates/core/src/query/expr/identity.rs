//! The canonical encoding of conditions, sub-selects and what may be seen.

use super::{CmpOp, Computed, Expr, Grant, Mask, Placeholder, Subquery};
use crate::canonical::{Canonical, Encoder};
use crate::value::Type;

impl Canonical for Subquery {
    fn encode(&self, to: &mut Encoder) {
        self.table.encode(to);
        to.list(&self.columns);
        to.option(self.grants.as_deref(), |grants, to| to.list(grants));
        self.condition.encode(to);
    }
}

impl Canonical for Grant {
    fn encode(&self, to: &mut Encoder) {
        self.condition.encode(to);
        self.columns.encode(to);
        to.list(&self.masks);
    }
}

impl Canonical for Mask {
    fn encode(&self, to: &mut Encoder) {
        self.0.encode(to);
    }
}

fn placeholder(kind: Placeholder, name: &str, ty: Type, to: &mut Encoder) {
    to.tag(match kind {
        Placeholder::Param => 0,
        Placeholder::Claim => 1,
    });
    to.text(name);
    ty.encode(to);
}

impl Canonical for Expr {
    #[expect(clippy::too_many_lines, reason = "one arm per expression")]
    fn encode(&self, to: &mut Encoder) {
        match self {
            Expr::Const(v) => {
                to.tag(0);
                v.encode(to);
            }
            Expr::Column(i) => {
                to.tag(1);
                i.encode(to);
            }
            Expr::Placeholder(kind, name, ty) => {
                to.tag(2);
                placeholder(*kind, name, *ty, to);
            }
            Expr::Cmp(op, a, b) => {
                to.tag(3);
                to.tag(match op {
                    CmpOp::Eq => 0,
                    CmpOp::Ne => 1,
                    CmpOp::Lt => 2,
                    CmpOp::Le => 3,
                    CmpOp::Gt => 4,
                    CmpOp::Ge => 5,
                });
                a.encode(to);
                b.encode(to);
            }
            Expr::And(all) => {
                to.tag(4);
                to.list(all);
            }
            Expr::Or(any) => {
                to.tag(5);
                to.list(any);
            }
            Expr::Not(e) => {
                to.tag(6);
                e.encode(to);
            }
            Expr::IsNull(e) => {
                to.tag(7);
                e.encode(to);
            }
            Expr::In(e, list) => {
                to.tag(8);
                e.encode(to);
                to.list(list);
            }
            Expr::InValues(e, values) => {
                to.tag(9);
                e.encode(to);
                to.list(values.as_slice());
            }
            Expr::AnyOf(e, kind, name, ty) => {
                to.tag(10);
                e.encode(to);
                placeholder(*kind, name, *ty, to);
            }
            Expr::Member { of, subquery, exists } => {
                to.tag(11);
                to.list(of);
                subquery.encode(to);
                to.tag(u8::from(*exists));
            }
            Expr::Outer(i) => {
                to.tag(12);
                i.encode(to);
            }
            Expr::Like(e, pattern) => {
                to.tag(14);
                e.encode(to);
                pattern.encode(to);
            }
            Expr::LikePlaceholder { of, pattern, escape, ignores_case } => {
                to.tag(15);
                of.encode(to);
                pattern.encode(to);
                to.option(*escape, |c, to| to.number(u32::from(c).into()));
                to.tag(u8::from(*ignores_case));
            }
            Expr::Computed(computed) => {
                to.tag(16);
                computed.encode(to);
            }
        }
    }
}

impl Canonical for Computed {
    fn encode(&self, to: &mut Encoder) {
        match self {
            Computed::Function(function, of) => {
                to.tag(0);
                function.encode(to);
                to.list(of);
            }
            Computed::Case { arms, otherwise } => {
                to.tag(1);
                to.number(arms.len() as u64);
                for (condition, value) in arms {
                    condition.encode(to);
                    value.encode(to);
                }
                otherwise.encode(to);
            }
            Computed::Coalesce(of) => {
                to.tag(2);
                to.list(of);
            }
            Computed::Extreme { greatest, of } => {
                to.tag(if *greatest { 3 } else { 4 });
                to.list(of);
            }
            Computed::Distinct(a, b) => {
                to.tag(5);
                a.encode(to);
                b.encode(to);
            }
            Computed::Now(offset) => {
                to.tag(6);
                to.number(offset.cast_unsigned());
            }
        }
    }
}
