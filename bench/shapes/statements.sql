-- The twins of billing.ridge's queries in the form that suits the peer best: inner joins where every row has its match,
-- integer keys, columns in the order of the queries'.

-- short_runs
select d.year, sum(price * (1 - rebate)), count(*)
from items join invoices using (invoice_id) join days d on issued = d.day group by d.year

-- pricing
select returned, means, sum(kwh), sum(price), sum(price * (1 - rebate)), sum(price * (1 - rebate) * (1 + tax)), avg(kwh), avg(price),
       avg(rebate), count(*)
from items where billed <= date '2025-06-01' group by returned, means

-- filter_sum
select sum(price * rebate) from items
where billed between date '2023-01-01' and date '2023-12-31' and rebate between 0.05 and 0.07 and kwh < 24

-- promo_share
select 100 * sum(case when class like 'promo%' then price * (1 - rebate) else 0 end) / sum(price * (1 - rebate))
from items join offers using (offer_id) where billed between date '2024-09-01' and date '2024-09-30'

-- or_over_tables
select sum(price * (1 - rebate)) from items join offers using (offer_id)
where means in ('app', 'card') and (
      (brand = 'brand 12' and pack in ('small case', 'small box', 'small bag') and kwh between 1 and 11 and size between 1 and 5)
   or (brand = 'brand 23' and pack in ('medium bag', 'medium box', 'medium case') and kwh between 10 and 20
       and size between 1 and 10)
   or (brand = 'brand 34' and pack in ('large case', 'large box', 'large bag') and kwh between 20 and 30
       and size between 1 and 15))

-- or_of_pairs
select year, sum(price * (1 - rebate))
from items join days on billed = day join meters using (meter_id) join sites using (site_id) join districts using (district_id)
     join lands l on districts.land_id = l.land_id join invoices using (invoice_id) join holders h using (holder_id)
     join lands m on h.land_id = m.land_id
where ((l.name = 'Aster' and m.name = 'Clover') or (l.name = 'Clover' and m.name = 'Aster'))
  and billed between date '2022-01-01' and date '2023-12-31'
group by year

-- below_average
select sum(price)
from items join offers using (offer_id)
     join (select offer_id, 0.2 * avg(kwh) as fifth from items group by offer_id) using (offer_id)
where brand = 'brand 23' and pack = 'medium box' and kwh < fifth

-- least_of_key
select count(*)
from items join offers using (offer_id)
     join (select offer_id, min(price) as least from items group by offer_id) using (offer_id)
where size = 15 and class like '%brass' and price = least

-- exists_late
select urgency, count(*) from invoices o
where issued between date '2023-07-01' and date '2023-09-30'
  and exists (select * from items i where i.invoice_id = o.invoice_id and i.received > i.promised)
group by urgency

-- alone_late
select count(*)
from items x join meters using (meter_id) join sites using (site_id) join districts using (district_id)
     join lands l using (land_id)
where x.received > x.promised and l.name = 'Aster'
  and exists (select * from items y where y.invoice_id = x.invoice_id and y.meter_id <> x.meter_id)
  and not exists (select * from items z where z.invoice_id = x.invoice_id and z.meter_id <> x.meter_id
                  and z.received > z.promised)

-- no_invoice
select count(*) from holders h
where balance > (select avg(balance) from holders where balance > 0)
  and not exists (select * from invoices o where o.holder_id = h.holder_id)

-- distribution
select count(*) filter (where n >= 15), max(n)
from (select h.holder_id, count(o.holder_id) as n from holders h left join invoices o using (holder_id) group by h.holder_id)

-- large_invoices
select invoice_id, issued, reference, kwh
from (select invoice_id, sum(kwh) as kwh from items group by invoice_id having sum(kwh) > 280) join invoices using (invoice_id)
order by kwh desc, invoice_id limit 100

-- open_invoices
select invoice_id, issued, urgency, sum(price * (1 - rebate)) as amount
from items join invoices using (invoice_id) join holders using (holder_id)
where segment = 'fleet' and issued < date '2023-03-15' and billed > date '2023-03-15'
group by invoice_id, issued, urgency order by amount desc, invoice_id limit 10

-- top_holders
select holder_id, h.name, phone, l.name, sum(price * (1 - rebate)) as amount
from items join invoices using (invoice_id) join holders h using (holder_id) join lands l using (land_id)
where issued between date '2023-10-01' and date '2023-12-31' and returned = 'back'
group by holder_id, h.name, phone, l.name order by amount desc, holder_id limit 20

-- snowflake
select l.name, kind, sum(price * (1 - rebate)), count(*)
from items join meters using (meter_id) join sites s using (site_id) join districts using (district_id) join lands l using (land_id)
group by l.name, kind

-- far_filters
select l.name, sum(price * (1 - rebate))
from items join meters using (meter_id) join sites using (site_id) join districts using (district_id)
     join lands l on districts.land_id = l.land_id join invoices using (invoice_id) join holders h using (holder_id)
     join lands m on h.land_id = m.land_id join days on issued = day
where m.name in ('Aster', 'Briar', 'Clover', 'Dahlia', 'Elder') and year = 2023
group by l.name

-- land_share
select year, sum(case when l.name = 'Briar' then price * (1 - rebate) else 0 end) / sum(price * (1 - rebate))
from items join offers using (offer_id) join meters using (meter_id) join sites using (site_id) join districts using (district_id)
     join lands l on districts.land_id = l.land_id join invoices using (invoice_id) join holders h using (holder_id)
     join lands m on h.land_id = m.land_id join days on issued = day
where m.name in ('Aster', 'Briar', 'Clover', 'Dahlia') and class = 'economy plated steel'
  and issued between date '2022-01-01' and date '2023-12-31'
group by year

-- profit
select l.name, year, sum(price * (1 - rebate) - 0.40 * kwh)
from items join offers using (offer_id) join meters using (meter_id) join sites using (site_id) join districts using (district_id)
     join lands l using (land_id) join invoices using (invoice_id) join days on issued = day
where title like '%green%'
group by l.name, year

-- patterns
select (select count(*) from invoices where reference like '%7%42%'),
       (select count(*) from tickets where reason not like '%cable%worn%')

-- distinct_three
select brand, class, size, count(distinct meter_id) as meters_met
from items join offers using (offer_id)
where brand <> 'brand 45' and class not like 'medium polished%' and size in (49, 14, 23, 45, 19, 3, 36, 9)
group by brand, class, size order by meters_met desc, brand, class, size limit 40

-- means
select means, sum(case when urgency in ('urgent', 'high') then 1 else 0 end), sum(case when urgency in ('urgent', 'high') then 0 else 1 end)
from items join invoices using (invoice_id)
where means in ('post', 'rail') and received between date '2023-01-01' and date '2023-12-31'
group by means

-- late_rows
select means, count(*), sum(kwh) from items where received > promised and billed < promised group by means

-- percentiles
select meter_id, quantile_cont(kwh::double, 0.9) as high from items group by meter_id order by high desc, meter_id limit 20

-- to_date_random
select day, value, sum(value) over (partition by year order by day)
from (select day, year, sum(value) as value from readings join days using (day) group by day, year)

-- zipf
select model, count(*), avg(value), count(quality) from readings join meters using (meter_id) group by model

-- meters_read
select meter_id, count(*) as n, sum(value), max(value) from readings group by meter_id order by n desc, meter_id limit 20

-- top_references
select reference, sum(price * (1 - rebate)) as amount from items join invoices using (invoice_id)
group by reference order by amount desc, reference limit 10

-- three_facts
select districts.name, a.kwh, b.value, c.minutes
from districts
     left join (select district_id, sum(kwh) as kwh from items join meters using (meter_id) join sites using (site_id) group by district_id) a using (district_id)
     left join (select district_id, sum(value) as value from readings join meters using (meter_id) join sites using (site_id) group by district_id) b using (district_id)
     left join (select district_id, sum(minutes) as minutes from tickets join meters using (meter_id) join sites using (site_id) group by district_id) c using (district_id)

-- few_far
select sum(price * (1 - rebate)), count(*) from items join invoices using (invoice_id) join holders using (holder_id)
where name = 'holder 0042017'

-- nulls
select quality, count(*), avg(value) from readings group by quality

-- medians
select l.name, median(value::double)
from readings join meters using (meter_id) join sites using (site_id) join districts using (district_id) join lands l using (land_id)
group by l.name

-- best_meters
select name, sum(kwh) from (
  select l.name, m.kwh, rank() over (partition by l.name order by m.kwh desc) as place
  from (select meter_id, sum(kwh) as kwh from items group by meter_id) m join meters using (meter_id) join sites using (site_id)
       join districts using (district_id) join lands l using (land_id))
where place <= 3 group by name
