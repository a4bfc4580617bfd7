"""What was measured in a run, as it is kept: seconds, requests, what meters read, and what is found out from it."""

from __future__ import annotations

from typing import Any

from django.db import models

from stonekettle.server.runs.models.run import Generator, Run
from stonekettle.server.sealed import SealedJSONField


class GeneratorSecond(models.Model):
    """One second of one generator: its rollup, histograms by cell, and request records (Arrow). ``merged`` into the
    run's second of that number or not yet; once its records are ``bundled`` too, the row is empty."""

    generator = models.ForeignKey(Generator, models.CASCADE, related_name="seconds")
    second = models.PositiveIntegerField()
    rollup: models.JSONField[Any, Any] = models.JSONField()
    histograms = models.BinaryField()
    records = models.BinaryField()
    merged = models.BooleanField(default=False)
    bundled = models.BooleanField(default=False)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["generator", "second"], name="one_row_per_generator_second"),)
        indexes = (
            models.Index(fields=["generator", "second"], condition=models.Q(merged=False), name="seconds_to_merge"),
            models.Index(fields=["generator", "second"], condition=models.Q(bundled=False), name="seconds_to_bundle"),
        )
        ordering = ("second",)

    def __str__(self) -> str:
        return f"second {self.second} of {self.generator_id}"


class RecordBundle(models.Model):
    """Request records of a run, of about a minute (:mod:`bundles`), with what tells whether any of them is wanted."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="bundles")
    first_second = models.PositiveIntegerField()
    last_second = models.PositiveIntegerField()
    rows = models.PositiveIntegerField()
    slowest_us = models.PositiveBigIntegerField()
    errors = models.PositiveIntegerField()
    steps: models.JSONField[Any, Any] = models.JSONField()
    content = models.BinaryField()

    class Meta:
        ordering = ("first_second", "pk")
        indexes = (models.Index(fields=["run", "first_second"], name="bundles_by_time"),)

    def __str__(self) -> str:
        return f"{self.rows} records of run {self.run_id}"


class RunSecond(models.Model):
    """What all generators told of ``every`` seconds from ``second`` on: ``figures`` ready to be read
    (:class:`seconds.Layout`), all that was told, and histograms by cell.

    ``sequence`` is the run's at the time of writing: who has read up to one finds what is new by it.
    """

    run = models.ForeignKey(Run, models.CASCADE, related_name="seconds")
    every = models.PositiveSmallIntegerField()
    second = models.PositiveIntegerField()
    sequence = models.PositiveBigIntegerField()
    figures = models.BinaryField()
    told: models.JSONField[Any, Any] = models.JSONField()
    histograms = models.BinaryField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["run", "every", "second"], name="one_row_per_run_second"),)
        indexes = (models.Index(fields=["run", "every", "sequence"], name="run_seconds_in_sequence"),)
        ordering = ("second",)

    def __str__(self) -> str:
        return f"second {self.second} of run {self.run_id}"


class MeterSecond(models.Model):
    """What the meters told of ``every`` seconds from ``second`` on: a value for each column of the run
    (:attr:`Run.meter_columns`), and what happened to them."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="meter_seconds")
    every = models.PositiveSmallIntegerField()
    second = models.PositiveIntegerField()
    sequence = models.PositiveBigIntegerField()
    values = models.BinaryField()
    events: models.JSONField[Any, Any] = models.JSONField(default=list)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["run", "every", "second"], name="one_row_per_meter_second"),)
        indexes = (models.Index(fields=["run", "every", "sequence"], name="meter_seconds_in_sequence"),)
        ordering = ("second",)

    def __str__(self) -> str:
        return f"meters of second {self.second} of run {self.run_id}"


class KeptRequest(models.Model):
    """A request kept whole (:class:`engine.kept.Whole`): its record, why it is kept, and its texts, sealed."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="kept_requests")
    start_us = models.BigIntegerField()
    user = models.PositiveBigIntegerField()
    visit = models.PositiveBigIntegerField()
    group = models.PositiveIntegerField()
    step = models.PositiveIntegerField()
    status = models.PositiveIntegerField()
    error = models.CharField(max_length=40)
    total_us = models.PositiveBigIntegerField()
    blind_us = models.PositiveBigIntegerField()
    why = models.CharField(max_length=10)
    chance = models.FloatField()
    texts = SealedJSONField()

    class Meta:
        indexes = (models.Index(fields=["run", "step", "why"], name="kept_requests_by_step"),)
        ordering = ("start_us", "pk")

    def __str__(self) -> str:
        return f"a request of step {self.step} in run {self.run_id}"


class Trace(models.Model):
    """What servers told at one time of a request's way through them: ``spans`` are rows of
    :class:`meters.otlp_traces.PushedSpan`, of the trace that the run's ``user``, ``visit`` and ``step`` name. Its
    ``chance`` (0 to 1) is the same for all that is told of it; those below the run's ``traced_below`` are held."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="traces")
    user = models.PositiveBigIntegerField()
    visit = models.PositiveBigIntegerField()
    step = models.PositiveIntegerField()
    chance = models.FloatField()
    received_at = models.FloatField()
    spans: models.JSONField[Any, Any] = models.JSONField()

    class Meta:
        indexes = (models.Index(fields=["run", "step"], name="traces_by_step"),)
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"a trace of step {self.step} in run {self.run_id}"


class RunFact(models.Model):
    """One figure of a run's findings (:class:`core.facts.Fact`); unknown is null."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="facts")
    level = models.PositiveSmallIntegerField(null=True)
    subject = models.TextField()
    figure = models.CharField(max_length=40)
    value = models.FloatField(null=True)
    standard_error = models.FloatField(null=True)
    n = models.PositiveBigIntegerField(null=True)

    class Meta:
        indexes = (models.Index(fields=["run", "figure"], name="facts_by_figure"),)
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"{self.figure} of {self.subject or 'everything'} in run {self.run_id}"


class RunBlocks(models.Model):
    """The block statistics of a run's facts in their order: how many each has, and all of them (4-byte numbers)."""

    run = models.OneToOneField(Run, models.CASCADE, primary_key=True, related_name="fact_blocks")
    lengths = models.BinaryField()
    blocks = models.BinaryField()

    def __str__(self) -> str:
        return f"block statistics of run {self.run_id}"


class MeterSeries(models.Model):
    """One series of a run's catalogue: what the samples with its number are of."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="meter_series")
    number = models.PositiveIntegerField()
    component = models.CharField(max_length=80)
    instance = models.CharField(max_length=300)
    metric = models.CharField(max_length=500)
    labels: models.JSONField[Any, Any] = models.JSONField()
    kind = models.CharField(max_length=8)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["run", "number"], name="one_meter_series_per_number"),)

    def __str__(self) -> str:
        return f"{self.metric} of {self.component}"


class MeterScrape(models.Model):
    """The samples of one round of scrapes (compressed)."""

    run = models.ForeignKey(Run, models.CASCADE, related_name="meter_scrapes")
    scrape = models.PositiveIntegerField()
    chunk = models.BinaryField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["run", "scrape"], name="one_chunk_per_scrape"),)

    def __str__(self) -> str:
        return f"scrape {self.scrape} of run {self.run_id}"


class MetricsFile(models.Model):
    """Metrics of a component uploaded after the run, as read from a file.

    ``sources`` and ``chunk`` hold its series and samples on the file's own clock, in seconds since
    the run's start; ``offset_s`` is how far that clock is ahead.
    """

    run = models.ForeignKey(Run, models.CASCADE, related_name="metrics_files")
    component = models.CharField(max_length=80)
    name = models.CharField(max_length=200)
    sources: models.JSONField[Any, Any] = models.JSONField()
    chunk = models.BinaryField()
    offset_s = models.FloatField(default=0.0)
    added_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"{self.name} of run {self.run_id}"
