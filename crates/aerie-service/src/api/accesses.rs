//! Who got into which machine, and when: Aerie's own sessions, and what the machines' logs show beside them.

use super::caller::{EverythingReader, Reader};
use super::problem::Problem;
use super::sessions::{MOST, PAGE, cursor, make_cursor};
use crate::audit::report::{MOST_TOTALS, access_report, shown};
use crate::service::App;
use aerie_api::{AccessQuery, AccessReport, AccessView, Page, SessionView, TotalQuery};
use aerie_core::audit::{AccessRecord, By};
use aerie_core::directory::Directory;
use aerie_core::wording::duration;
use aerie_store::AccessFilter;
use axum::Json;
use axum::extract::{Path, Query, State};
use jiff::{SignedDuration, Timestamp};
use std::sync::Arc;

pub(super) fn filter(q: AccessQuery, limit: u32) -> Result<AccessFilter, Problem> {
    let through = match q.through.as_deref() {
        None | Some("") => None,
        Some("aerie") => Some(true),
        Some("around") => Some(false),
        Some(_) => return Err(Problem::bad_request("`through` is `aerie` or `around`.")),
    };
    let some = |t: Option<String>| t.filter(|t| !t.is_empty());
    Ok(AccessFilter {
        since: q.from,
        until: q.until,
        person: some(q.person),
        machine: some(q.machine),
        through,
        text: some(q.q),
        before: q.after.as_deref().map(cursor).transpose()?,
        limit,
    })
}

pub(super) fn view(directory: &Directory, r: AccessRecord) -> AccessView {
    let person_name = r.person.as_deref().map(|p| shown(directory, p));
    let seconds = r.end.map(|e| e.duration_since(r.begin).as_secs().max(0));
    let sentence = match &r.session {
        Some(_) => {
            let who = person_name.as_deref().unwrap_or_default();
            match seconds {
                Some(s) => format!("{who} was on {} as {} for {}.", r.machine, r.account, duration(SignedDuration::from_secs(s))),
                None => SessionView::tell(who, &r.machine, &[], Timestamp::now().duration_since(r.begin).as_secs(), None),
            }
        }
        None => AccessView::tell(person_name.as_deref(), &aerie_core::diagnostic::printable(&r.account), &r.machine, &r.source, seconds),
    };
    AccessView {
        id: r.id,
        sentence,
        service: r.service.word().into(),
        machine: r.machine,
        account: aerie_core::diagnostic::printable(&r.account),
        person: r.person,
        person_name,
        source: aerie_core::diagnostic::printable(&r.source),
        method: r.method,
        key: r.key,
        certificate: r.certificate.map(|c| aerie_core::diagnostic::printable(&format!("{} (serial {})", c.id, c.serial))),
        uses: r.uses.split_whitespace().map(Into::into).collect(),
        began: r.begin,
        ended: r.end,
        seconds,
        session: r.session,
        lines: r.lines.into_iter().map(Into::into).collect(),
    }
}

/// List who got into which machine, newest first, whoever says so.
#[utoipa::path(get, path = "/accesses", operation_id = "accesses", params(AccessQuery), responses((status = 200, body = Page<AccessView>)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    Reader(seen): Reader,
    Query(q): Query<AccessQuery>,
) -> Result<Json<Page<AccessView>>, Problem> {
    let limit = q.limit.unwrap_or(PAGE).clamp(1, MOST);
    let mut rows = app.store.accesses(&filter(q, limit + 1)?).await?;
    let more = rows.len() > limit as usize;
    rows.truncate(limit as usize);
    let next = rows.last().filter(|_| more).map(|r| make_cursor(r.begin, &r.id));
    // Whoever has a scope sees what concerns machines within it; a page may then be shorter.
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let items = rows.into_iter().filter(|r| seen.machine(directory, &r.machine)).map(|r| view(directory, r)).collect();
    Ok(Json(Page { items, next }))
}

/// Show one access with the lines that show it; for a session, the lines of machines' logs that show the same.
#[utoipa::path(get, path = "/accesses/{id}", operation_id = "access", params(("id" = String, Path)), responses((status = 200, body = AccessView), (status = 404)))]
pub(super) async fn show(State(app): State<Arc<App>>, Reader(seen): Reader, Path(id): Path<String>) -> Result<Json<AccessView>, Problem> {
    let rules = app.rules.now();
    let directory = rules.policy.directory();
    let found = app.store.access(&id).await?.filter(|r| seen.machine(directory, &r.machine));
    let mut record = found.ok_or_else(|| Problem::not_found("There is no such access."))?;
    if let Some(session) = &record.session {
        record.lines = app.store.lines_of_session(session).await?;
    }
    Ok(Json(view(directory, record)))
}

/// Count who got into which machine: totals of people, machines, addresses, accounts, rules or operating systems, and over time.
#[utoipa::path(get, path = "/access-report", operation_id = "accessReport", params(AccessQuery, TotalQuery), responses((status = 200, body = AccessReport)))]
pub(super) async fn report(
    State(app): State<Arc<App>>,
    _: EverythingReader,
    Query(q): Query<AccessQuery>,
    Query(by): Query<TotalQuery>,
) -> Result<Json<AccessReport>, Problem> {
    let by = by_word(by.by.as_deref())?;
    let filter = filter(AccessQuery { after: None, ..q }, MOST_TOTALS)?;
    Ok(Json(access_report(&app, &filter, by).await?))
}

/// What totals are of; people where nothing is said.
pub(super) fn by_word(word: Option<&str>) -> Result<By, Problem> {
    let word = word.filter(|w| !w.is_empty()).unwrap_or(By::Person.word());
    let all: Vec<String> = By::ALL.iter().map(|b| format!("`{}`", b.word())).collect();
    By::from_word(word).ok_or_else(|| Problem::bad_request(format!("`by` is one of {}.", all.join(", "))))
}
