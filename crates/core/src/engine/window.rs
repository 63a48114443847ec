//! How much of its table the feed of a window holds: the rows up to a boundary. They are the window and a reserve, so that rows
//! can go without another read; where too few are left, the next page is read behind the boundary, and where many have come, the
//! last of them are let go and the boundary with them.
//!
//! The boundary is a place in the order of the rows, not a row: what stands before it is held and what stands behind it is not,
//! whatever becomes of the row that had this place when it was read.

use std::sync::Arc;

use crate::operator::{Place, Ties};
use crate::plan::{EffectivePlan, Page, PageTerm, VisibleRow};
use crate::schema::{Key, Row};

/// Rows of a page, at most.
const MAX_PAGE: usize = 1_000_000;

/// By how much a page is longer than the one before that was not enough: a condition that holds on few rows is not to have a
/// database without an index sort them very often. In powers of two.
const LONGER: u32 = 3;

/// What a feed knows of the rows of its window.
#[derive(Debug)]
pub(super) struct Window {
    order: Arc<[PageTerm]>,
    /// Rows of the window, with those before it.
    needs: usize,
    reserve: usize,
    /// Up to where all rows are held; `None` for all.
    boundary: Option<Place>,
    /// How many rows the page may have that is being read, if one is.
    asked: Option<usize>,
    /// How many of it have come, and the last of them in order.
    read: usize,
    last: Option<Place>,
    /// Pages since there were enough rows.
    pages: u32,
}

/// Where a row of the table stands. Its order is of columns that everybody sees.
fn place(plan: &EffectivePlan, key: Key, row: &Row) -> Option<Place> {
    let terms = &plan.arrange.as_ref()?.order;
    let whole = VisibleRow { row: row.clone(), columns: plan.table().all_columns() };
    Place::of(terms, Ties::ByKey, &key, &whole).ok()
}

fn is_behind(plan: &EffectivePlan, place: &Place, boundary: &Place) -> bool {
    plan.arrange.as_ref().is_some_and(|a| place.cmp(boundary, &a.order).is_gt())
}

impl Window {
    /// That of a plan; `None` where its feed holds all rows.
    pub(super) fn of(plan: &EffectivePlan, reserve: usize) -> Option<Window> {
        let order = plan.page_order()?;
        let arrange = plan.arrange.as_ref()?;
        let needs = arrange.offset() + arrange.limit()?;
        Some(Window { order, needs, reserve, boundary: None, asked: None, read: 0, last: None, pages: 0 })
    }

    /// Whether a row stands behind the boundary.
    pub(super) fn is_behind(&self, plan: &EffectivePlan, key: &Key, row: &Row) -> bool {
        let Some(boundary) = &self.boundary else { return false };
        place(plan, key.clone(), row).is_some_and(|place| is_behind(plan, &place, boundary))
    }

    /// Up to where all rows are held; `None` for all.
    pub(super) fn boundary(&self) -> Option<&Place> {
        self.boundary.as_ref()
    }

    /// The columns of the order.
    pub(super) fn columns(&self) -> impl Iterator<Item = usize> {
        self.order.iter().map(|term| term.column)
    }

    /// Whether the rows that are held are too few, and there may be more.
    pub(super) fn falls_short(&self, held: usize) -> bool {
        self.boundary.is_some() && held < self.needs
    }

    fn page(&mut self, held: usize) -> Page {
        let more = self.needs.saturating_sub(held) + self.reserve;
        let limit = more.max(1).saturating_mul(1 << (LONGER * self.pages).min(20)).min(MAX_PAGE);
        (self.asked, self.read, self.last) = (Some(limit), 0, None);
        self.pages += 1;
        Page { order: self.order.clone(), after: None, until: None, limit: Some(limit) }
    }

    fn values(boundary: &Place) -> Vec<crate::value::Value> {
        boundary.values().iter().chain(&*boundary.key).cloned().collect()
    }

    /// The first rows of all.
    pub(super) fn first_page(&mut self) -> Page {
        self.boundary = None;
        self.page(0)
    }

    /// The rows behind those that are held.
    pub(super) fn next_page(&mut self, held: usize) -> Page {
        let after = self.boundary.as_ref().map(Window::values);
        Page { after, ..self.page(held) }
    }

    /// The part of the table that is held; `None` for all of it.
    pub(super) fn held_page(&self) -> Option<Page> {
        let until = Some(Window::values(self.boundary.as_ref()?));
        Some(Page { order: self.order.clone(), after: None, until, limit: None })
    }

    /// The page is read from its beginning.
    pub(super) fn begin_again(&mut self) {
        (self.read, self.last) = (0, None);
    }

    /// All is read from the beginning.
    pub(super) fn reset(&mut self) {
        (self.boundary, self.asked, self.pages) = (None, None, 0);
        self.begin_again();
    }

    /// A row of the page, in the result or not.
    pub(super) fn note_read(&mut self, plan: &EffectivePlan, row: &Row) {
        if self.asked.is_none() {
            return;
        }
        self.read += 1;
        let Some(place) = place(plan, plan.key_of(row), row) else { return };
        if self.last.as_ref().is_none_or(|last| is_behind(plan, &place, last)) {
            self.last = Some(place);
        }
    }

    /// The page has come. One that is not full was the last, and so was one that brought nothing behind what was held.
    pub(super) fn note_done(&mut self, plan: &EffectivePlan) {
        let Some(asked) = self.asked.take() else { return };
        let before = self.boundary.take();
        let last = self.last.take().filter(|_| self.read >= asked);
        self.boundary = last.filter(|last| before.is_none_or(|before| is_behind(plan, last, &before)));
    }

    /// Where the rows may end that are held, if they are more than enough.
    pub(super) fn end(&mut self, held: usize) -> Option<usize> {
        self.pages = 0;
        let enough = self.needs + self.reserve;
        (enough > 0 && held > enough + self.reserve).then_some(enough - 1)
    }

    /// Lets go what stands behind this place.
    pub(super) fn cut(&mut self, at: Place) {
        self.boundary = Some(at);
    }
}
