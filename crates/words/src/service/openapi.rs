//! The OpenAPI document of both services.

use super::{Answer, TextAnswer, TextRequest};
use schemars::generate::SchemaSettings;
use serde_json::{Value, json};

/// What went wrong, for a person (RFC 9457).
#[derive(serde::Serialize, schemars::JsonSchema)]
pub struct Problem {
    pub title: String,
    pub status: u16,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// The description of what services are asked and what they answer (OpenAPI 3.1.0).
pub fn document() -> Value {
    // Schemas stand beside each other, as the document wants them.
    let mut settings = SchemaSettings::draft2020_12();
    settings.definitions_path = "/components/schemas".into();
    let mut make = settings.into_generator();
    make.subschema_for::<Answer>();
    make.subschema_for::<TextRequest>();
    make.subschema_for::<TextAnswer>();
    make.subschema_for::<Problem>();
    let schemas = make.take_definitions(true);
    let of = |name: &str| json!({ "$ref": format!("#/components/schemas/{name}") });
    let problem = |what: &str| json!({ "description": what, "content": { "application/problem+json": { "schema": of("Problem") } } });
    let responses = |name: &str| {
        json!({
            "200": { "description": "What was made of it.", "content": { "application/json": { "schema": of(name) } } },
            "400": problem("The request is not as described here."),
            "401": problem("The login is missing or wrong."),
            "413": problem("The request is too large: the porter sends it in smaller parts."),
            "422": problem("The request is as described, but nothing can be made of what is in it."),
            "429": problem("Later: the porter waits as Retry-After says, and asks again."),
            "503": problem("Not now: the porter waits as Retry-After says, and asks again."),
        })
    };
    json!({
        "openapi": "3.1.0",
        "info": {
            "title": "Speech and text services for Deft Porter",
            "version": "1.0.0",
            "description": "What Deft Porter asks of a speech service and of a text service, and what it understands of the answers. The paths are those of the stand-ins; a house names the whole address.",
            "license": { "name": "MIT OR Apache-2.0", "identifier": "MIT OR Apache-2.0" },
        },
        "servers": [{ "url": "http://127.0.0.1:8790", "description": "deft-porter stand-in" }],
        "security": [{}, { "token": [] }, { "password": [] }],
        "paths": {
            "/speech": { "post": {
                "operationId": "hear",
                "summary": "What is said in some sound, and when",
                "requestBody": { "required": true, "content": { "multipart/form-data": {
                    "schema": {
                        "type": "object",
                        "required": ["sound"],
                        "properties": {
                            "sound": { "type": "string", "contentMediaType": "audio/wav", "description": "RIFF WAVE, PCM, 16 bits, one channel, 16,000 Hz. Its name is that of the recording, with the part's place in it." },
                            "language": { "type": "string", "description": "Language that is spoken (BCP 47)." },
                            "terms": { "type": "string", "description": "Spellings that are wanted, one a line." },
                        },
                    },
                    "encoding": { "sound": { "contentType": "audio/wav" } },
                } } },
                "responses": responses("Answer"),
            } },
            "/text": { "post": {
                "operationId": "read",
                "summary": "A summary of a transcript",
                "requestBody": { "required": true, "content": { "application/json": { "schema": of("TextRequest") } } },
                "responses": responses("TextAnswer"),
            } },
        },
        "components": {
            "schemas": schemas,
            "securitySchemes": {
                "token": { "type": "http", "scheme": "bearer" },
                "password": { "type": "http", "scheme": "basic" },
            },
        },
    })
}
