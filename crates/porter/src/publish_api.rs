//! The interface of publishing as a document (OpenAPI 3.1): what a platform, or an adapter in front of one, has to answer.

use serde_json::{Value, json};

fn of(name: &str) -> Value {
    json!({ "$ref": format!("#/components/schemas/{name}") })
}

fn told(what: &str) -> Value {
    json!({ "description": what, "content": { "application/json": { "schema": of("Told") } } })
}

fn problem(what: &str) -> Value {
    json!({ "description": what, "content": { "application/problem+json": { "schema": of("Problem") } } })
}

fn bytes(kinds: &[&str]) -> Value {
    let content: serde_json::Map<String, Value> = kinds
        .iter()
        .map(|k| ((*k).to_owned(), json!({ "schema": { "type": "string", "format": "binary" } })))
        .collect();
    json!({ "required": true, "content": content })
}

fn parameter(name: &str, place: &str, what: &str, schema: Value) -> Value {
    json!({ "name": name, "in": place, "required": true, "description": what, "schema": schema })
}

/// Refusals that every request may get.
fn with_usual(mut responses: Value) -> Value {
    for (status, what) in [
        ("401", "The login is missing or wrong: a person is needed."),
        ("429", "Later, or a quota that is used up: the porter waits as Retry-After says, and asks again."),
        ("503", "Not now: the porter waits as Retry-After says, and asks again."),
    ] {
        responses[status] = problem(what);
    }
    responses
}

/// The document.
pub fn document() -> Value {
    let text = || json!({ "type": "string" });
    let id = || parameter("id", "path", "The platform's name for the item.", text());
    let version = || parameter("Tus-Resumable", "header", "Of the protocol.", json!({ "const": "1.0.0" }));
    let missing = || problem("There is no such item.");
    let done = || json!({ "description": "It is kept." });
    json!({
        "openapi": "3.1.0",
        "info": {
            "title": "Publishing with Deft Porter",
            "version": "1.0.0",
            "description": "How Deft Porter puts a film onto a platform: JSON for what is said of it, tus 1.0.0 for its bytes. The paths stand behind the address of a place with protocol = \"publish\"; those here are of the stand-in.",
            "license": { "name": "MIT OR Apache-2.0", "identifier": "MIT OR Apache-2.0" },
        },
        "servers": [{ "url": "http://127.0.0.1:8790/publish", "description": "deft-porter stand-in platform" }],
        "security": [{}, { "token": [] }],
        "paths": {
            "/": { "get": {
                "operationId": "version",
                "summary": "Whether it is such a platform",
                "responses": with_usual(json!({
                    "200": { "description": "It is.", "content": { "application/json": { "schema": {
                        "type": "object",
                        "required": ["publish"],
                        "properties": { "publish": { "const": 1, "description": "The version of this interface." } },
                    } } } },
                })),
            } },
            "/items": { "post": {
                "operationId": "make",
                "summary": "An item, as a draft",
                "description": "With a key that is known already nothing is made, and the item of that key is told.",
                "requestBody": { "required": true, "content": { "application/json": { "schema": of("Item") } } },
                "responses": with_usual(json!({
                    "200": told("The item that has this key already."),
                    "201": told("It was made."),
                    "400": problem("The request is not as described here."),
                    "422": problem("A field is missing or cannot be: a person is needed."),
                })),
            } },
            "/items/{id}": {
                "get": {
                    "operationId": "look",
                    "summary": "What became of an item",
                    "parameters": [id()],
                    "responses": with_usual(json!({ "200": told("As it is now."), "404": missing() })),
                },
                "delete": {
                    "operationId": "remove",
                    "summary": "A draft that is not wanted any more",
                    "parameters": [id()],
                    "responses": with_usual(json!({
                        "204": { "description": "It is gone." },
                        "404": missing(),
                        "409": problem("It is published."),
                    })),
                },
            },
            "/items/{id}/captions/{language}": { "put": {
                "operationId": "captions",
                "summary": "Captions in a language",
                "parameters": [id(), parameter("language", "path", "BCP 47.", text())],
                "requestBody": bytes(&["text/vtt", "application/x-subrip", "application/ttml+xml"]),
                "responses": with_usual(json!({ "204": done(), "404": missing() })),
            } },
            "/items/{id}/picture": { "put": {
                "operationId": "picture",
                "summary": "The picture that stands for it",
                "parameters": [id()],
                "requestBody": bytes(&["image/jpeg", "image/png"]),
                "responses": with_usual(json!({ "204": done(), "404": missing() })),
            } },
            "/items/{id}/publish": { "post": {
                "operationId": "publish",
                "summary": "Seen from now on, or from its time on",
                "parameters": [id()],
                "responses": with_usual(json!({
                    "200": told("It is published, or will be at its time."),
                    "403": problem("The platform will not: its words are told to a person."),
                    "404": missing(),
                    "409": problem("Bytes of it are missing: the porter sends them, and asks again."),
                })),
            } },
            "/uploads/{id}": {
                "head": {
                    "operationId": "sent",
                    "summary": "How much of it is there (tus 1.0.0)",
                    "description": "The address is the one that the item tells as `upload`; it may be anywhere.",
                    "parameters": [id(), version()],
                    "responses": with_usual(json!({
                        "200": { "description": "So much.", "headers": {
                            "Upload-Offset": { "schema": { "type": "integer" } },
                            "Upload-Length": { "schema": { "type": "integer" } },
                        } },
                        "404": missing(),
                    })),
                },
                "patch": {
                    "operationId": "send",
                    "summary": "More of it (tus 1.0.0)",
                    "parameters": [
                        id(),
                        version(),
                        parameter("Upload-Offset", "header", "What is there so far.", json!({ "type": "integer" })),
                    ],
                    "requestBody": bytes(&["application/offset+octet-stream"]),
                    "responses": with_usual(json!({
                        "204": { "description": "They are there.", "headers": {
                            "Upload-Offset": { "schema": { "type": "integer" } },
                        } },
                        "404": missing(),
                        "409": { "description": "Another number of bytes is there." },
                    })),
                },
            },
        },
        "components": {
            "securitySchemes": { "token": { "type": "http", "scheme": "bearer" } },
            "schemas": {
                "Item": {
                    "type": "object",
                    "required": ["key", "media", "title"],
                    "properties": {
                        "key": { "type": "string", "description": "This delivery's alone: asked for twice, it is one item." },
                        "media": {
                            "type": "object",
                            "required": ["name", "bytes", "checksum"],
                            "properties": {
                                "name": text(),
                                "bytes": { "type": "integer", "minimum": 0 },
                                "checksum": { "type": "string", "description": "`xxh3-128:` and the sum in hexadecimal digits." },
                            },
                        },
                        "title": { "type": "string", "minLength": 1 },
                        "description": text(),
                        "tags": { "type": "array", "items": text() },
                        "category": text(),
                        "language": { "type": "string", "description": "BCP 47." },
                        "visibility": { "enum": ["private", "unlisted", "public"] },
                        "publish_at": { "type": "string", "format": "date-time", "description": "RFC 3339." },
                        "notify": { "type": "boolean", "description": "Whether followers are told." },
                    },
                },
                "Told": {
                    "type": "object",
                    "required": ["id", "upload", "state"],
                    "properties": {
                        "id": text(),
                        "upload": { "type": "string", "description": "Where its bytes go." },
                        "state": { "enum": ["draft", "scheduled", "published"] },
                        "address": { "type": "string", "description": "Where it can be seen, when it is not a draft any more." },
                    },
                },
                "Problem": {
                    "type": "object",
                    "description": "RFC 9457.",
                    "required": ["title", "status", "detail"],
                    "properties": {
                        "title": text(),
                        "status": { "type": "integer" },
                        "detail": { "type": "string", "description": "What people read." },
                    },
                },
            },
        },
    })
}
