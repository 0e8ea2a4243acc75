//! The calls of the API, a file for each subject.

#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod entries;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod events;
#[expect(unused_qualifications, reason = "the macro of the path repeats the query's type")]
pub(crate) mod gates;
pub(crate) mod offers;
pub(crate) mod people;
pub(crate) mod service;
pub(crate) mod session;

use actix_web::web;

/// Where each call is found.
pub(crate) fn routes(config: &mut web::ServiceConfig) {
    config
        .service(gates::all)
        .service(gates::one)
        .service(gates::files)
        .service(entries::loaded_rows)
        .service(entries::sample)
        .service(entries::outputs)
        .service(gates::all_files)
        .service(gates::rehearsal)
        .service(gates::matches)
        .service(gates::pass)
        .service(gates::pause)
        .service(gates::resume)
        .service(entries::entries)
        .service(entries::all_entries)
        .service(entries::count)
        .service(people::actions)
        .service(people::adopt)
        .service(people::trim)
        .service(offers::take)
        .service(offers::file)
        .service(offers::prolong)
        .service(offers::end)
        .service(entries::entry)
        .service(entries::why)
        .service(events::activity)
        .service(events::changes)
        .service(events::events)
        .service(session::session)
        .service(session::sign_in)
        .service(session::sign_out)
        .service(service::about)
        .service(service::reload)
        .service(service::description)
        .service(service::healthz)
        .service(service::readyz)
        .service(service::metrics);
}
