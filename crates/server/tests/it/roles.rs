//! Who may do what: every operation, by role.

use crate::plant::{Client, Plant};
use actix_web::http::Method;
use serde_json::{Value as Json, json};

#[actix_web::test]
async fn each_role_may_do_what_it_may() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let operator = plant.person(&engineer, "operator").await;
    let viewer = plant.person(&engineer, "viewer").await;
    let nobody = Client::new(&plant.url);
    let write = format!("/api/tags/{}/write", built.setpoint);
    let by_hand = format!("/api/tags/{}/by-hand", built.setpoint);
    let of = |what: &str| format!("/api/connections/{}/{what}", built.connection);
    let at_place = |what: &str| format!("/api/places/{}/{what}", built.place);
    let (equipment, alike, class) = (at_place("equipment"), at_place("alike"), at_place("class"));
    let before = format!("/api/alarms/before?rule={}&at=2026-12-01T03:00:00Z", built.rule);
    let (take, contact) = (format!("/api/calls/{}/take", built.rule), format!("/api/contacts/{}", built.rule));
    let of_level = |what: &str| format!("/api/tags/{}/{what}", built.level);
    let (loops, look, follow) = (of_level("loop-checks"), of_level("loop-checks/look"), of_level("follow"));
    let (browse, scan, path, map) = (of("browse"), of("scan"), of("path"), of("map"));
    engineer.until(&format!("/api/values?tags={}", built.setpoint_no), |b| b[0]["quality"] == "good").await;
    // For nobody, viewer, operator, engineer; 403 and 401 are refusals, all else means that the request was let through.
    let cases: Vec<(Method, &str, Json, [bool; 4])> = vec![
        (Method::GET, "/api/items/tag", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/alarms", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/journal", Json::Null, [false, true, true, true]),
        (
            Method::POST,
            "/api/history/pixels",
            json!({"tags": [], "from": "2026-01-01T00:00:00Z", "to": "2026-01-02T00:00:00Z"}),
            [false, true, true, true],
        ),
        (Method::POST, "/api/reports/preview", json!({"name": "x"}), [false, true, true, true]),
        (Method::POST, "/api/alarms/act", json!({"action": "acknowledge", "rules": []}), [false, false, true, true]),
        (Method::GET, &before, Json::Null, [false, true, true, true]),
        (Method::GET, "/api/calls", Json::Null, [false, true, true, true]),
        (Method::POST, &take, json!({}), [false, false, true, true]),
        (Method::POST, "/api/calls/test", json!({"plan": built.place}), [false, false, true, true]),
        (Method::GET, "/api/contacts", Json::Null, [false, true, true, true]),
        (Method::PATCH, &contact, json!({"mail": "nobody", "hours": {}}), [false, false, false, true]),
        (Method::GET, "/api/shifts/now", Json::Null, [false, true, true, true]),
        (Method::POST, &write, json!({"value": 70.0}), [false, false, true, true]),
        (Method::GET, "/api/by-hand", Json::Null, [false, true, true, true]),
        (Method::PUT, &by_hand, json!({"value": 70.0, "reason": " "}), [false, false, true, true]),
        (Method::DELETE, &by_hand, Json::Null, [false, false, true, true]),
        (Method::GET, "/api/units", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/items/states", Json::Null, [false, true, true, true]),
        (Method::POST, "/api/edits", json!({"why": "x", "edits": []}), [false, false, false, true]),
        (Method::GET, "/api/views/tags", Json::Null, [false, true, true, true]),
        (Method::POST, "/api/views/tags", json!({"name": "", "view": {}}), [false, false, true, true]),
        (Method::DELETE, "/api/views/00000000-0000-0000-0000-000000000000", Json::Null, [false, false, true, true]),
        (Method::GET, "/api/tables/tag/file", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/sheets/rules", Json::Null, [false, true, true, true]),
        (
            Method::POST,
            "/api/rules/trial",
            json!({"tag": built.level, "set": {}, "seconds": 0, "every_s": 1, "made_up": []}),
            [false, true, true, true],
        ),
        (
            Method::POST,
            "/api/rules/backtest",
            json!({"tag": built.level, "set": {}, "from": "x", "to": "x"}),
            [false, true, true, true],
        ),
        (Method::POST, "/api/rules/made", json!({"rules": [{"kind": "bad_quality"}]}), [false, false, false, true]),
        (Method::GET, "/api/plant/file", Json::Null, [false, false, false, true]),
        (Method::POST, "/api/files?what=tag", json!({}), [false, false, false, true]),
        (Method::GET, "/api/files/00000000-0000-0000-0000-000000000000", Json::Null, [false, false, false, true]),
        (Method::POST, "/api/files/00000000-0000-0000-0000-000000000000/take", json!({"why": "x"}), [false, false, false, true]),
        (Method::DELETE, "/api/files/00000000-0000-0000-0000-000000000000", Json::Null, [false, false, false, true]),
        (Method::GET, "/api/tree", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/tables/tag/columns", Json::Null, [false, true, true, true]),
        (Method::POST, "/api/tables/tag/rows", json!({"why": "x", "rows": []}), [false, false, false, true]),
        (Method::POST, "/api/places/copy", json!({"places": []}), [false, false, false, true]),
        (Method::POST, "/api/undo", json!({"revision": 99}), [false, false, false, true]),
        (Method::POST, "/api/undo/plan", json!({"revision": 99}), [false, false, false, true]),
        (Method::POST, "/api/revisions/return", json!({"revision": 99}), [false, false, false, true]),
        (
            Method::POST,
            "/api/alarms/spans",
            json!({"tags": [], "from": "2026-01-01T00:00:00Z", "to": "2026-01-02T00:00:00Z"}),
            [false, true, true, true],
        ),
        (Method::GET, "/api/revisions/compare?from=0&to=1", Json::Null, [false, true, true, true]),
        (
            Method::POST,
            "/api/notes/find",
            json!({"tags": [], "from": "2026-01-01T00:00:00Z", "to": "2026-01-02T00:00:00Z"}),
            [false, true, true, true],
        ),
        (
            Method::POST,
            "/api/notes",
            json!({"tag": built.level, "at": "2026-01-01T00:00:00Z", "text": " "}),
            [false, false, true, true],
        ),
        (Method::DELETE, "/api/notes/00000000-0000-0000-0000-000000000000", Json::Null, [false, false, true, true]),
        (Method::GET, &loops, Json::Null, [false, true, true, true]),
        (Method::POST, &look, json!({}), [false, false, false, true]),
        (Method::POST, &loops, json!({"passed": true}), [false, false, false, true]),
        (Method::GET, &follow, Json::Null, [false, true, true, true]),
        (Method::POST, "/api/sources/match", json!({"found": []}), [false, false, false, true]),
        (Method::GET, "/api/instant", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/board", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/board/figures", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/classes", Json::Null, [false, true, true, true]),
        (Method::GET, &equipment, Json::Null, [false, true, true, true]),
        (Method::GET, &alike, Json::Null, [false, true, true, true]),
        (Method::POST, "/api/classes/made", json!({"name": "x", "places": [], "try": true}), [false, false, false, true]),
        (Method::POST, "/api/edits/difference", json!({"why": "x", "edits": []}), [false, false, false, true]),
        (Method::POST, "/api/equipment", json!({"rows": []}), [false, false, false, true]),
        (Method::POST, "/api/equipment/rows", json!({"name": "A", "class": built.place}), [false, false, false, true]),
        (Method::POST, &class, json!({"class": null}), [false, false, false, true]),
        (Method::GET, "/api/classes/00000000-0000-0000-0000-000000000000/file", Json::Null, [false, false, false, true]),
        (Method::GET, "/api/sheets/tags", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/sheets/alarms", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/alarms/history/file?format=csv", Json::Null, [false, true, true, true]),
        (
            Method::GET,
            "/api/alarms/performance?from=2026-01-01T00:00:00Z&to=2026-01-02T00:00:00Z",
            Json::Null,
            [false, true, true, true],
        ),
        (Method::GET, "/api/alarms/areas", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/alarms/review", Json::Null, [false, true, true, true]),
        (Method::GET, "/api/alarms/guide", Json::Null, [false, true, true, true]),
        (Method::POST, "/api/rules/argued", json!({"consequences": {}, "respond_min": 5}), [false, true, true, true]),
        (Method::POST, "/api/rules/checked", json!({"rules": [], "revision": 1}), [false, false, false, true]),
        (Method::GET, "/api/trends", Json::Null, [false, true, true, true]),
        (Method::POST, "/api/trends", json!({"name": "x", "trend": {"tags": [], "span": 60}}), [false, false, true, true]),
        (Method::DELETE, "/api/trends/00000000-0000-0000-0000-000000000000", Json::Null, [false, false, true, true]),
        (Method::GET, "/api/find?text=level", Json::Null, [false, true, true, true]),
        (Method::POST, "/api/history/import", json!({}), [false, false, false, true]),
        (Method::GET, "/api/demo/faults", Json::Null, [false, true, true, true]),
        (Method::POST, "/api/demo/faults", json!({"fault": "cut", "seconds": 1}), [false, false, false, true]),
        (Method::POST, "/api/jobs/00000000-0000-0000-0000-000000000000/cancel", Json::Null, [false, false, false, true]),
        (Method::POST, "/api/connections/test", json!({}), [false, false, false, true]),
        (Method::GET, "/api/kinds", Json::Null, [false, true, true, true]),
        (Method::POST, &browse, json!({"node": "holding", "most": 32}), [false, false, false, true]),
        (Method::POST, &scan, json!({"node": "holding", "from": 2, "to": 1}), [false, false, false, true]),
        (Method::POST, &path, json!({"path": 9}), [false, false, false, true]),
        (Method::GET, "/api/connections/00000000-0000-0000-0000-000000000000/traffic", Json::Null, [false, false, false, true]),
        (Method::POST, "/api/values/raw", json!({"tags": []}), [false, false, false, true]),
        (Method::POST, &map, json!({}), [false, false, false, true]),
        (Method::POST, "/api/intake/names", json!({"parts": [], "rows": [], "examples": []}), [false, false, false, true]),
        (
            Method::POST,
            "/api/intake/points",
            json!({"connection": built.connection, "points": [{"address": "1", "type": "u16"}]}),
            [false, false, false, true],
        ),
        (Method::POST, "/api/intake/clashes", json!({"rows": []}), [false, false, false, true]),
        (Method::GET, "/api/connections/export", Json::Null, [false, false, false, true]),
        (Method::POST, "/api/connections/import", json!({}), [false, false, false, true]),
        (Method::GET, "/api/tokens", Json::Null, [false, false, false, true]),
        (Method::POST, "/api/tokens", json!({"name": ""}), [false, false, false, true]),
        (Method::DELETE, "/api/tokens/00000000-0000-0000-0000-000000000000", Json::Null, [false, false, false, true]),
        (Method::GET, "/api/accounts", Json::Null, [false, false, false, true]),
        (Method::PATCH, "/api/accounts/00000000-0000-0000-0000-000000000000", json!({}), [false, false, false, true]),
        (Method::GET, "/api/accounts/00000000-0000-0000-0000-000000000000/sessions", Json::Null, [false, false, false, true]),
        (Method::DELETE, "/api/accounts/00000000-0000-0000-0000-000000000000/sessions", Json::Null, [false, false, false, true]),
        (Method::POST, "/api/accounts", json!({"name": "", "password": "", "role": ""}), [false, false, false, true]),
    ];
    for (method, path, body, allowed) in cases {
        for (client, allowed) in [&nobody, &viewer, &operator, &engineer].into_iter().zip(allowed) {
            let body = (!body.is_null()).then(|| body.clone());
            let (status, text, _) = client.send(method.clone(), path, &[("if-match", "1")], body).await;
            assert_eq!(![401, 403].contains(&status), allowed, "{method} {path}: {status} {text}");
        }
    }
    plant.stop().await;
}
