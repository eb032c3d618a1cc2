"""Delivery of what is in the outbox: e-mails by SMTP, webhooks by HTTP."""
